"""The calls of the API, by subject."""
