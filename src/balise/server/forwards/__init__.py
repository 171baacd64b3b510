"""Events and points sent on to other systems."""
