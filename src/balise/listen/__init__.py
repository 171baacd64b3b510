"""Taking connections of others: how many each may hold, and how long a request may take to come."""
