"""Everything that a console keeps: how large it is, copies of it, and exports."""
