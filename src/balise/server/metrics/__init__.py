"""Questions about series."""
