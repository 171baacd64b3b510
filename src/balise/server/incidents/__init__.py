"""Incidents: what belongs together, who has it, and who is told of it."""
