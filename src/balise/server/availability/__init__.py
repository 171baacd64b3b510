"""How much of a time things were there."""
