"""Kinds of limits: each says of all groups at once which are in breach."""
