"""Copies of everything a console keeps: made while it runs, verified, and put back elsewhere."""
