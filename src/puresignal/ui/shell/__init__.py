"""The window around the views."""
