"""Events sent on to other systems."""
