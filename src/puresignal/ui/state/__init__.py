"""What the window works on: session, live input, playback."""
