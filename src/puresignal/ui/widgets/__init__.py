"""Parts that several views use."""
