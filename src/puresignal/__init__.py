"""Pure Signal: playing in, clean MIDI out."""

__version__ = "0.1.0"
LICENCE = "GPL-3.0-or-later"
