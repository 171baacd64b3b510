"""Probes: each speaks a protocol and judges the answer."""
