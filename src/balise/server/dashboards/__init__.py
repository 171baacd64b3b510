"""Dashboards: kept, brought by kits, and answered in one go."""
