"""Drums and taught sounds to notes."""
