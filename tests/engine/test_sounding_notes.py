"""The table of what sounds never shows less than the receivers may hear, whenever the router dies."""

from __future__ import annotations

import os

from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.engine import sounding_file
from puresignal.engine.sounding_notes import AGAIN_AFTER, KEYS, SENT_AFTER, SOUNDING_SIZE, SoundingNotes

STEPS = st.lists(st.tuples(st.sampled_from(["on", "off", "block", "off+block"]), st.integers(0, 3)), max_size=60)


@settings(max_examples=150, deadline=None)
@given(STEPS, st.booleans())
def test_whenever_the_router_dies_its_successor_ends_what_is_heard(steps, sent):
    table = bytearray(SOUNDING_SIZE)
    notes = SoundingNotes(table)
    # What the receiver hears: the messages of a block reach it when the block is over, or never if the router dies.
    heard, block = set(), []

    def deliver():
        for on, key in block:
            (heard.add if on else heard.discard)(key)
        block.clear()

    for what, key in steps:
        if what == "on":
            notes.began(key)
            block.append((True, key))
        elif what.startswith("off") and notes.ends(key):
            block.append((False, key))
        if what.endswith("block"):
            deliver()
            notes.next_block()
    if sent:
        deliver()
    after = SoundingNotes(table)
    after.connected(0)
    ended = [key for _ in range(SENT_AFTER + 1) for key in after.next_block()]
    assert heard <= set(ended)
    # Once more later, for a receiver that was late for its first blocks; then the table is clear.
    again = [key for _ in range(AGAIN_AFTER + SENT_AFTER) for key in after.next_block()]
    assert again == ended
    assert after.is_silent()
    assert not any(table)


def test_what_sounds_at_an_unplugged_receiver_is_ended_when_it_is_back_and_what_begins_then_is_not():
    notes = SoundingNotes()
    notes.began(5)
    notes.disconnected(0)
    assert notes.ends(5)
    notes.connected(0)
    notes.began(6)
    assert [key for _ in range(SENT_AFTER + 1) for key in notes.next_block()] == [5]
    assert notes.ends(6)


def test_everything_is_ended_once():
    notes = SoundingNotes()
    notes.began(5)
    notes.began(KEYS + 7)
    assert notes.end_all() == [5, KEYS + 7]
    assert notes.end_all() == []
    notes.settle()
    assert notes.is_silent()


def test_rows_follow_their_outputs_names(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    descriptor, path = sounding_file.make()
    assert path.stat().st_mode & 0o777 == 0o600
    sounding_file.write_outputs(descriptor, ("a", "b"))
    os.pwrite(descriptor, b"\1", KEYS + 3)
    sounding_file.write_outputs(descriptor, ("b", "c"))
    assert (os.pread(descriptor, 1, 3), os.pread(descriptor, 1, KEYS + 3)) == (b"\1", b"\0")
    assert sounding_file.read_outputs(descriptor) == ("b", "c")
    # Its owner lives: nobody else may take it.
    assert sounding_file.leftovers() == []
    sounding_file.close(descriptor, path)
    assert sounding_file.leftovers() == [path]
    with path.open("r+b") as file:
        file.seek(3)
        file.write(b"\0")
    assert sounding_file.leftovers() == []
    assert not path.exists()
