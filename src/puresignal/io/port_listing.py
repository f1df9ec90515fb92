"""All MIDI ports of the machine in one list."""

from __future__ import annotations

from puresignal.io import alsa_ports, jack_ports
from puresignal.io.ports import MidiPort, merged


def listing() -> tuple[tuple[MidiPort, ...], str]:
    """All MIDI ports except our own, and why there are none from JACK (empty if there is a server)."""
    try:
        jack, why = jack_ports.listing(), ""
    except jack_ports.NoServerError as error:
        jack, why = (), str(error)
    return merged(jack, alsa_ports.listing()), why
