"""The trail: what left its usual, in which order, and what of it is the likely cause."""
