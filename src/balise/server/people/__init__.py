"""Who comes in: users, sessions, tokens, and how often somebody may try."""
