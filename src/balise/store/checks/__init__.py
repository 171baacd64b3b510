"""Verifying everything that a console keeps, and mending what can be mended."""
