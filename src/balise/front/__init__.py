"""The process that takes connections: HTTP and TLS end here, and what comes is handed to the console's own process."""
