"""The agent: collects on a host and delivers; only ever connects out."""
