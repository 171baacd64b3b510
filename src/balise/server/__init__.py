"""The service: receivers, background work, the API, and the web console's files."""
