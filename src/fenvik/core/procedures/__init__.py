"""Hands-free adjusting: what to read, what to set, and when to stop, for any display whose controls say their roles."""
