"""What is known of events without keeping them."""
