"""Windows-like hosts: the same collectors, behind the interface of what such a system tells."""
