"""What is on hosts, and what changed."""
