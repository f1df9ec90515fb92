"""The router's work block by block, without any port: what leaves live is what a file would hold."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.path.path import Path, make_context, run
from puresignal.engine.router import SOUNDING_SIZE, Router
from puresignal.engine.setup import Setup, from_bytes, live_path, to_bytes
from puresignal.io import jackports, mapfile
from puresignal.io.jackports import MidiPort
from puresignal.sim import drummer, module

RATE = 50_000
"""A frame is 20 µs here, so that the takes' times fall on frames."""

SETUP = Setup(("kit",), ("synth",), mapfile.shipped("practice-five"), mapfile.shipped("boathouse-room"))


def blocks(router, messages, size, frames):
    """Runs messages (frame, port, bytes) through a router in blocks; returns (frame, bytes) of what leaves."""
    out, at = [], 0
    for begin in range(0, frames, size):
        here = []
        while at < len(messages) and messages[at][0] < begin + size:
            here.append((messages[at][0] - begin, *messages[at][1:]))
            at += 1
        leaving = router.cycle(begin, size, here)
        assert [o for o, _ in leaving] == sorted(o for o, _ in leaving)
        assert all(0 <= o < size for o, _ in leaving)
        out += [(begin + o, m) for o, m in leaving]
    return out


def sent_messages(seed, bars=6):
    performance = drummer.improvise(bars, 120, seed)
    kit = mapfile.shipped("practice-five")
    sent = module.DrumModule(kit, module.Faults(doubles=0.1, no_length=0.1, hanging=0.05), seed).perform(performance)
    take = module.to_take(sent, "t", "t", 120, "kit")
    e = take.events
    frames = np.rint(e.arrived * RATE).astype(int)
    rows = zip(frames.tolist(), e.status.tolist(), e.data1.tolist(), e.data2.tolist(), strict=True)
    return take, [(f, 0, bytes([s, a, b])) for f, s, a, b in rows]


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 10_000), st.sampled_from([16, 64, 100, 256, 1024]))
def test_what_leaves_live_is_what_a_file_holds_whatever_the_block(seed, size):
    take, messages = sent_messages(seed)
    router = Router(RATE, live_path(SETUP))
    length = round((take.length + 6) * RATE)
    out = blocks(router, messages, size, length)
    context = make_context(take, SETUP.source, SETUP.target, Path())
    clean = run(take, Path(), context).clean
    ons = [(f, m[1], m[2]) for f, m in out if m[0] & 0xF0 == 0x90]
    frames = np.rint(clean.start * RATE).astype(int).tolist()
    assert ons == list(zip(frames, clean.note.tolist(), clean.velocity.astype(int).tolist(), strict=True))
    offs = sorted(f for f, m in out if m[0] & 0xF0 == 0x80)
    assert len(offs) == len(ons)
    assert not any(router._sounding)
    assert np.abs(np.array(offs) - np.sort(np.rint(clean.end * RATE))).max() <= 1


def test_a_new_path_and_an_unplugged_input_release_what_sounds():
    router = Router(RATE, live_path(SETUP))
    assert router.cycle(0, 64, [(5, 0, b"\x99\x26\x5a")]) == [(5, b"\x99\x1a\x5a")]
    router.use(live_path(SETUP))
    assert router.cycle(64, 64, []) == [(0, b"\x89\x1a\x40")]
    router.cycle(5000, 64, [(0, 0, b"\x99\x26\x5a")])
    router.unplug(0)
    assert router.cycle(10_000, 64, []) == [(0, b"\x89\x1a\x40")]


def test_a_router_ends_what_one_before_it_left_sounding():
    table = bytearray(SOUNDING_SIZE)
    first = Router(RATE, live_path(SETUP), table)
    first.cycle(0, 64, [(0, 0, b"\x99\x26\x5a"), (0, 0, b"\x99\x24\x5a")])
    second = Router(RATE, live_path(SETUP), table)
    assert second.cycle(0, 64, []) == []
    second.receiver_is_new()
    out = [m for begin in range(64, 640, 64) for _, m in second.cycle(begin, 64, [])]
    assert out == [b"\x89\x18\x40", b"\x89\x1a\x40"]
    assert not any(table)


@pytest.mark.parametrize(
    "junk",
    [b"", b"\xf8", b"\xfe", b"\xf0\x7d\x01", b"\x26\x5a", b"\x99", b"\x99\x26", b"\x99\xa6\x5a", b"\x99\x26\xff"],
)
def test_what_is_no_playing_neither_stops_nor_delays_a_note(junk):
    router = Router(RATE, live_path(SETUP))
    out = router.cycle(0, 64, [(1, 0, junk), (2, 0, b"\x99\x26\x5a"), (2, 0, junk), (3, 0, b"\x89\x26\x00")])
    assert out[0] == (2, b"\x99\x1a\x5a")
    later = [m for begin in range(64, 6400, 64) for m in router.cycle(begin, 64, [])]
    assert [m for _, m in [*out[1:], *later]] == [b"\x89\x1a\x00"]
    assert router.errors == 0


def test_unmapped_hits_leave_nothing_sounding():
    router = Router(RATE, live_path(SETUP))
    assert router.cycle(0, 64, [(0, 0, b"\x99\x63\x5a"), (1, 0, b"\x89\x63\x00")]) == []
    assert not any(router._sounding)


def test_the_pedal_counts_for_the_hit_of_its_frame_whichever_came_first():
    setup = Setup(("kit",), ("synth",), mapfile.shipped("harbour-mesh"), mapfile.shipped("boathouse-room"))
    for incoming in (
        [(5, 0, b"\x99\x2a\x50"), (5, 0, b"\xb9\x04\x00")],
        [(5, 0, b"\xb9\x04\x00"), (5, 0, b"\x99\x2a\x50")],
    ):
        router = Router(RATE, live_path(setup))
        assert router.cycle(0, 64, incoming) == [(5, b"\xb9\x04\x00"), (5, b"\x99\x20\x50")]


def test_a_setup_goes_over_the_socket_unchanged():
    assert from_bytes(to_bytes(SETUP)) == SETUP


def test_a_name_finds_the_exact_port_else_the_first_that_contains_it_never_our_own():
    ports = (
        MidiPort("Pure Signal:out 1", True),
        MidiPort("rig:kit out", True),
        MidiPort("kit", True),
        MidiPort("kit", False),
    )
    assert jackports.find(ports, "kit", True) == "kit"
    assert jackports.find(ports, "KIT O", True) == "rig:kit out"
    assert jackports.find(ports, "out", True) == "rig:kit out"
    assert jackports.find(ports, "nobody", True) is None
