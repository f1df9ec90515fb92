"""The neural networks, as NumPy runs them."""
