"""The way from what was played to what leaves: one module a stage, and the path that runs them."""
