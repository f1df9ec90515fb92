"""Keys and scales."""
