"""From a result to a file, playback or a printed page."""
