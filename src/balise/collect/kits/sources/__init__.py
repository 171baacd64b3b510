"""How questions are put to services: a class a protocol, all answering in rows."""
