"""Connections to other systems that what is sent on and what is told go through."""
