"""Where lines come from, and how it goes there."""
