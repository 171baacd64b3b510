"""Computation only: no input or output, no clock, no framework. Time and data come in as arguments."""
