"""What people use, and the services it is made of."""
