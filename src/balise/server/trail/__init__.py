"""The trail: gathering what the core ranks, and keeping what people said of it."""
