"""The demo session, built by code."""
