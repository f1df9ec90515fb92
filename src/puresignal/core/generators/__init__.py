"""Notes from what plays by itself: recipes, and what they make."""
