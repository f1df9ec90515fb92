"""The built-in sound: drums and a few pitched sounds, good enough to judge a take by. NumPy only."""
