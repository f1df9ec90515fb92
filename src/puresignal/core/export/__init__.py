"""What is made of a result: a file, playback, a printed page."""
