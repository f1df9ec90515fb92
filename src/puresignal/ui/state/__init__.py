"""State of the window: session, live input, playback."""
