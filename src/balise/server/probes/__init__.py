"""Active checks from outside."""
