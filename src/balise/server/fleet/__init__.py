"""The fleet as a table and as a tree."""
