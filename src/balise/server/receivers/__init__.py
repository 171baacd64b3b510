"""Receivers of syslog, and who speaks to them."""
