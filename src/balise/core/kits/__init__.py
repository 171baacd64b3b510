"""What kits mean: documents checked, rows made values, log lines made events."""
