"""Names of a receiver's sounds: read from MIDNAM and JSON, kept, and refused where they are not that."""

from __future__ import annotations

import contextlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.midi.sound_names import GENERAL_MIDI, Sound, SoundNames, from_json, to_json
from puresignal.core.session.destination import Destination
from puresignal.core.session.session import Session
from puresignal.io import session_file, sound_lists

MIDNAM = b"""<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE MIDINameDocument PUBLIC "-//MIDI Manufacturers Association//DTD MIDINameDocument 1.0//EN"
 "MIDINameDocument10.dtd">
<MIDINameDocument><MasterDeviceNames>
 <Manufacturer>Tollhouse</Manufacturer><Model>Lamp 2</Model>
 <ChannelNameSet Name="All">
  <PatchBank Name="A"><MIDICommands><ControlChange Control="0" Value="1"/>
   <ControlChange Control="32" Value="3"/></MIDICommands>
   <PatchNameList><Patch Number="A01" Name="Wet Rope" ProgramChange="0"/>
    <Patch Number="A02" Name="Low Tide"><PatchMIDICommands>
    <ControlChange Control="0" Value="2"/><ProgramChange Number="9"/>
    </PatchMIDICommands></Patch></PatchNameList></PatchBank>
  <PatchBank Name="B"><UsesPatchNameList Name="shared"/></PatchBank>
 </ChannelNameSet>
 <PatchNameList Name="shared"><Patch Number="1" Name="Bell Buoy" ProgramChange="4"/>
  <Patch Number="2" Name="Odd" ProgramChange="900"/>
 </PatchNameList>
</MasterDeviceNames></MIDINameDocument>"""
LAMP = SoundNames("Tollhouse Lamp 2", (Sound("Wet Rope", 0, 131), Sound("Low Tide", 9, 256), Sound("Bell Buoy", 4)))


@pytest.fixture(autouse=True)
def home(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))


def test_banks_and_programs_of_a_midnam_file(tmp_path):
    path = tmp_path / "lamp.midnam"
    path.write_bytes(MIDNAM)
    assert sound_lists.read(path) == LAMP
    sound_lists.keep(LAMP)
    assert sound_lists.kept() == (LAMP,)
    assert sound_lists.read(sound_lists.folder() / "tollhouse-lamp-2.json") == LAMP


def test_the_sound_of_another_bank_is_not_taken_for_it():
    assert LAMP.place(131, 0) == 0
    assert LAMP.place(None, 4) == 2
    assert LAMP.place(5, 4) is None
    assert GENERAL_MIDI.sounds[GENERAL_MIDI.place(None, 40)].name == "Violin"
    assert GENERAL_MIDI.place(None, None) is None


@pytest.mark.parametrize(
    "content",
    [
        b"",
        b"not xml",
        b"<a/>",
        MIDNAM[:400],
        b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>',
        b"{}",
        b'{"format": "pure-signal/sounds"}',
    ],
)  # fmt: skip
def test_what_names_no_sounds_is_refused(tmp_path, content):
    path = tmp_path / "x.midnam"
    path.write_bytes(content)
    with pytest.raises(BadFileError):
        sound_lists.read(path)


@given(st.binary(max_size=60), st.integers(0, len(MIDNAM)))
def test_damaged_files_raise_nothing_else(extra, place):
    with contextlib.suppress(PureSignalError):
        sound_lists.parse_midnam(MIDNAM[:place] + extra + MIDNAM[place + len(extra) :], "x.midnam")


def test_the_session_keeps_the_names():
    session = Session(destinations=(Destination("Lamp", "Out", sounds=LAMP),))
    opened = session_file.parse(session_file.to_bytes(session, {}), "x.puresignal")
    assert opened.session.destinations == session.destinations
    assert from_json(to_json(LAMP), "x") == LAMP
