"""The chart kit: core's results to SVG, the same for page, phone, print and file. Looks come from classes."""
