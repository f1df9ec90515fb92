"""Playing surfaces: which place plays which note, and how hard."""
