"""The Mapping view."""
