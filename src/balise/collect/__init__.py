"""Every way of reading a system, the same for agent, relay and console."""
