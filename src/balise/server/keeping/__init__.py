"""How long things are kept, and the room that there is for them."""
