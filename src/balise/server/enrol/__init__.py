"""How hosts come in: keys, lists, and machines that wait."""
