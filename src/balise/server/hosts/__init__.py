"""Hosts, their groups and clocks, and what people keep of how they look at them."""
