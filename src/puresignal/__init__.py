"""Pure Signal: playing in, clean MIDI out."""

__version__ = "0.1.0"
