"""Alerts as they are kept."""
