"""Drum kits: articulations, note maps, and finding the map of a kit."""
