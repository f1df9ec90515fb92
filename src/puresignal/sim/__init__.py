"""Simulated devices. Nothing here shares a rule or a constant with the path that cleans."""
