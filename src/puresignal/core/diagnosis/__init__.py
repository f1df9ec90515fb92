"""Why something is silent, or sounds twice."""
