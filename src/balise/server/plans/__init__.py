"""What is collected where, as plans say."""
