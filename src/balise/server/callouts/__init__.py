"""Telling people."""
