"""Services of hosts, the kits that read them, and what could be read."""
