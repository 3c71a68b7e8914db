"""Colour: spaces, curves, differences; what a target is and what judges it."""
