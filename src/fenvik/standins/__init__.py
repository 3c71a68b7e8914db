"""Simulated devices that speak the device link and nothing else. Fenvik does not know that they are simulated."""
