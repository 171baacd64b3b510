"""Hosts that are read from afar, the relays that read them, and what they are read with."""
