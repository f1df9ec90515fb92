"""The Inputs view."""
