"""The path from input notes to output notes: one module per stage, and the path that runs them."""
