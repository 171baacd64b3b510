"""What arrives over OTLP."""
