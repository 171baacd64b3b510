"""Rules and the watch that holds series to them."""
