"""The Velocity view."""
