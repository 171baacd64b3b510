"""Ways to tell people, one class each."""
