"""What is on a host: read out of the texts a system keeps, and compared."""
