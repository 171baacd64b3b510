"""Series: reading them off the wire, keeping them small, and summing them up."""
