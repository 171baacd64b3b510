"""Skerry Ferries, a made-up ferry operator: its fleet, its load, and the faults that befall it."""
