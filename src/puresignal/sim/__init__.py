"""Simulated devices and players. Nothing here shares a rule or a constant with the path or the ear."""
