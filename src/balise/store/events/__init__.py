"""The event store: one file a day, searchable by text, filter and span."""
