"""The Outputs view."""
