"""The console's own certificate."""
