"""MIDI as arrays: events, tempo maps and Standard MIDI Files."""
