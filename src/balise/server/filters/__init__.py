"""Filters: what they mean, and those that have a name."""
