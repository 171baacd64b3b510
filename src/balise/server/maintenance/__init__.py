"""Maintenance: times in which what goes wrong is kept, and nobody is told."""
