"""Incidents: alerts that belong together."""
