"""The Takes view."""
