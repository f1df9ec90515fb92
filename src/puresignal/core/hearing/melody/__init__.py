"""One voice to notes."""
