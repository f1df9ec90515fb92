"""Chords to notes."""
