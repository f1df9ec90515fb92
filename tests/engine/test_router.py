"""The router block by block, without any port: live output equals the file."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.export.song_builder import build_song
from puresignal.core.kit.articulations import drum_of
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.core.path.doubles import Doubles
from puresignal.core.path.identify import Identify
from puresignal.core.path.target import Target
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session, with_early_live
from puresignal.core.session.track_settings import Delivery, TrackSettings, with_tracks
from puresignal.engine.router import Router
from puresignal.engine.router_config import LiveTrack, RouterConfig, TrackRoute, from_bytes, lanes, to_bytes
from puresignal.engine.session_setup import live_wait, setup_of
from puresignal.engine.sounding_notes import SOUNDING_SIZE
from puresignal.io import note_map_file
from puresignal.io import ports as midi_ports
from puresignal.io.ports import MidiPort
from puresignal.sim import drum_module, drummer

RATE = 50_000
"""A frame is 20 µs here, so that the takes' times fall on frames."""

SETUP = RouterConfig(
    ("kit",), ("synth",), note_map_file.shipped("practice-five"), note_map_file.shipped("boathouse-room")
)

UNLEARNT = CleaningPath(Identify(splash_ms=0.0), doubles=Doubles(learn=False))
"""What live and files have in common: files alone tell splashes of the foot, and learn from the whole take."""


def blocks(router, messages, size, frames):
    """Run messages (frame, port, bytes) through a router in blocks; returns (frame, bytes) of the output."""
    out, at = [], 0
    for begin in range(0, frames, size):
        here = []
        while at < len(messages) and messages[at][0] < begin + size:
            here.append((messages[at][0] - begin, *messages[at][1:]))
            at += 1
        leaving = router.cycle(begin, size, here)
        assert [o for o, _, _ in leaving] == sorted(o for o, _, _ in leaving)
        assert all(0 <= o < size for o, _, _ in leaving)
        out += [(begin + o, m) for o, _, m in leaving]
    return out


def sent_messages(seed, bars=6):
    performance = drummer.improvise(bars, 120, seed)
    kit = note_map_file.shipped("practice-five")
    sent = drum_module.DrumModule(kit, drum_module.Faults(doubles=0.1, no_length=0.1, hanging=0.05), seed).perform(
        performance
    )
    take = drum_module.to_take(sent, "t", "t", 120, "kit")
    e = take.events
    frames = np.rint(e.arrived * RATE).astype(int)
    rows = zip(frames.tolist(), e.status.tolist(), e.data1.tolist(), e.data2.tolist(), strict=True)
    return take, [(f, 0, bytes([s, a, b])) for f, s, a, b in rows]


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 10_000), st.sampled_from([16, 64, 100, 256, 1024]))
def test_live_output_equals_the_file_whatever_the_block(seed, size):
    take, messages = sent_messages(seed)
    router = Router(RATE, lanes(SETUP))
    # A note that hung is ended five seconds later, and remembered for some blocks after that.
    length = round((take.length + 8) * RATE)
    out = blocks(router, messages, size, length)
    context = make_context(take, SETUP.source, SETUP.target, UNLEARNT)
    clean = run(take, UNLEARNT, context).output_notes
    ons = [(f, m[1], m[2]) for f, m in out if m[0] & 0xF0 == 0x90]
    frames = np.rint(clean.start * RATE).astype(int).tolist()
    assert ons == list(zip(frames, clean.note.tolist(), clean.velocity.astype(int).tolist(), strict=True))
    offs = sorted(f for f, m in out if m[0] & 0xF0 == 0x80)
    assert len(offs) == len(ons)
    assert router.sounding.is_silent()
    assert np.abs(np.array(offs) - np.sort(np.rint(clean.end * RATE))).max() <= 1


@settings(max_examples=8, deadline=None)
@given(st.integers(0, 10_000), st.data())
def test_tracks_hold_live_as_in_the_file(seed, data):
    """Channels, offsets, and tracks that are switched off: the same notes at the same places live and in the file."""
    take, played = sent_messages(seed, bars=3)
    drums = ("kick", "snare", "hat", "tom1", "ride", "crash1")
    chosen = [
        TrackSettings(
            key,
            channel=data.draw(st.sampled_from([None, 1, 10, 16])),
            out=data.draw(st.booleans()),
            offset=data.draw(st.sampled_from([0.0, 0.0, 4.0, 120.0])),
        )
        for key in drums
    ]
    session = Session(
        target=SETUP.target, delivery=with_tracks(Delivery(), chosen), path=UNLEARNT,
        inputs=(LiveInput("kit", source=SETUP.source, output="synth"),),
    )  # fmt: skip
    out = blocks(Router(RATE, lanes(setup_of(session))), played, 256, round((take.length + 6) * RATE))
    outcome = run(take, session.path, make_context(take, SETUP.source, SETUP.target, session.path))
    song = build_song(outcome, take, session.delivery)
    written = []
    for track in song.tracks:
        on = (track.messages.status & 0xF0 == 0x90) & (track.messages.data2 > 0)
        rows = (track.messages.status[on], track.messages.data1[on], track.messages.data2[on])
        seconds = take.tempo.ticks_to_seconds(track.messages.tick[on])
        written += zip(seconds.round(2).tolist(), *(row.tolist() for row in rows), strict=True)
    live = [(round(f / RATE, 2), *m) for f, m in out if m[0] & 0xF0 == 0x90]
    # A tick is about half a millisecond: the same notes, told apart by what they are and about when.
    assert sorted(row[1:] for row in live) == sorted(row[1:] for row in written)
    for mine, theirs in zip(sorted(live), sorted(written), strict=True):
        assert abs(mine[0] - theirs[0]) <= 0.011


def test_a_late_track_leaves_later_and_nothing_of_it_is_left_sounding():
    snare = TrackSettings("snare", offset=40.0)
    session = Session(
        target=SETUP.target, delivery=with_tracks(Delivery(), [snare]),
        inputs=(LiveInput("kit", source=SETUP.source, output="synth"),),
    )  # fmt: skip
    router = Router(RATE, lanes(setup_of(session)))
    hit = [(10, 0, b"\x99\x3d\x5a"), (500, 0, b"\x89\x3d\x40")]
    found = blocks(router, hit, 64, 10_000)
    late = round(0.04 * RATE)
    assert found[0] == (10 + late, b"\x99\x07\x5a")
    # Its end is as much later, whenever that is; other tracks are not moved.
    assert [data[:2] for _, data in found] == [b"\x99\x07", b"\x89\x07"]
    assert found[1][0] - found[0][0] >= 490
    router = Router(RATE, lanes(setup_of(session)))
    blocks(router, hit[:1], 64, 128)
    # Switched off before it has left: it never does, and neither does its end.
    assert all(data[0] & 0xF0 != 0x90 for _, _, data in router.release())
    assert blocks(router, [], 64, 10_000) == []


def test_what_is_early_live_leaves_at_once_and_all_else_waits_if_the_player_asks_for_it():
    kick, snare, tom = TrackSettings("kick", offset=-15.0), TrackSettings("snare"), TrackSettings("tom1", offset=10.0)
    session = Session(
        target=SETUP.target, delivery=with_tracks(Delivery(), [kick, snare, tom]),
        inputs=(LiveInput("kit", source=SETUP.source, output="synth"),),
    )  # fmt: skip

    def leaves(session, drum):
        pad = next(pad for pad in SETUP.source.pads if drum_of(pad.articulation) == drum)
        router = Router(RATE, lanes(setup_of(session)))
        found = blocks(router, [(10, 0, bytes((0x99, pad.note, 90)))], 64, 4000)
        return next(at for at, data in found if data[0] == 0x99) - 10

    assert [leaves(session, name) for name in ("kick", "snare", "tom1")] == [0, 0, round(0.01 * RATE)]
    asked = with_early_live(session, True)
    wanted = [0, round(0.015 * RATE), round(0.025 * RATE)]
    assert [leaves(asked, name) for name in ("kick", "snare", "tom1")] == wanted
    assert live_wait(asked) == 15.0


def test_fine_velocities_leave_live_as_a_prefix_where_asked():
    played = [(3, 0, b"\xb9\x58\x64"), (5, 0, b"\x99\x3d\x5a")]
    assert Router(RATE, lanes(SETUP)).cycle(0, 64, played) == [(5, 0, b"\x99\x07\x5a")]
    fine = replace(SETUP, path=CleaningPath(target=Target(fine=True)))
    router = Router(RATE, lanes(fine))
    assert router.cycle(0, 64, played) == [(5, 0, b"\xb9\x58\x64"), (5, 0, b"\x99\x07\x5a")]
    # The prefix was for that note alone.
    router.cycle(64, 64, [(0, 0, b"\x89\x3d\x40")])
    assert router.cycle(20_000, 64, [(0, 0, b"\x99\x3d\x5a")]) == [(0, 0, b"\x99\x07\x5a")]


def test_two_hits_at_one_frame_leave_as_the_louder_and_end_with_the_later():
    router = Router(RATE, lanes(SETUP))
    twice = [(5, 0, b"\x99\x3d\x14"), (5, 0, b"\x99\x3d\x78"), (9, 0, b"\x91\x3d\x14"), (9, 0, b"\x91\x3d\x78")]
    assert router.cycle(0, 64, twice) == [
        (5, 0, b"\x99\x07\x78"), (9, 0, b"\x91\x3d\x14"), (9, 0, b"\x91\x3d\x78"),
    ]  # fmt: skip
    assert router.cycle(4800, 64, [(0, 0, b"\x89\x3d\x40")]) == []
    assert router.cycle(9600, 64, [(0, 0, b"\x89\x3d\x40")]) == [(0, 0, b"\x89\x07\x40")]


def test_other_settings_take_over_and_what_sounds_goes_on():
    router = Router(RATE, lanes(SETUP))
    assert router.cycle(0, 64, [(5, 0, b"\x99\x3d\x5a")]) == [(5, 0, b"\x99\x07\x5a")]
    # The snare's track gets a channel of its own: what sounds ends where it began, the next one begins there.
    moved = replace(SETUP, tracks=(replace(SETUP.live_tracks()[0], routes=(TrackRoute("snare", True, 3, -1),)),))
    router.use(lanes(moved))
    assert router.cycle(64, 64, []) == []
    assert router.cycle(5000, 64, [(0, 0, b"\x89\x3d\x00")]) == [(0, 0, b"\x89\x07\x00")]
    assert router.cycle(20_000, 64, [(0, 0, b"\x99\x3d\x5a")]) == [(0, 0, b"\x92\x07\x5a")]
    # Switched off, it does not leave, and what sounds of it ends as it would have.
    off = replace(SETUP, tracks=(replace(SETUP.live_tracks()[0], routes=(TrackRoute("snare", False, 0, -1),)),))
    router.use(lanes(off))
    assert router.cycle(25_000, 64, [(0, 0, b"\x89\x3d\x00")]) == [(0, 0, b"\x82\x07\x00")]
    assert router.cycle(40_000, 64, [(0, 0, b"\x99\x3d\x5a"), (9, 0, b"\x89\x3d\x00")]) == []
    for block in range(90):
        assert router.cycle(41_000 + 64 * block, 64, []) == []
    assert router.sounding.is_silent()


def test_a_path_that_takes_over_knows_what_its_predecessor_knew():
    router = Router(RATE, lanes(SETUP))
    first = router.cycle(0, 64, [(0, 0, b"\x99\x3d\x5a")])
    router.use(lanes(SETUP))
    # A double trigger 6 ms after the hit, of which the new path has only been told.
    second = router.cycle(288, 64, [(0, 0, b"\x99\x3d\x14")])
    assert [m[0] for _, _, m in first] == [0x99]
    assert 0x99 not in [m[0] for _, _, m in second]


@given(st.integers(0, 10_000))
@settings(max_examples=20, deadline=None)
def test_settings_that_change_all_the_time_change_no_note(seed):
    """The same playing through a router whose paths are replaced by equal ones again and again."""
    chance = np.random.default_rng(seed)
    quiet, changing = Router(RATE, lanes(SETUP)), Router(RATE, lanes(SETUP))
    notes = [pad.note for pad in note_map_file.shipped("practice-five").pads]
    frame, left = 0, ([], [])
    for _ in range(60):
        incoming = []
        for offset in sorted(chance.integers(0, 256, chance.integers(0, 4)).tolist()):
            note = int(chance.choice(notes))
            status = 0x99 if chance.random() < 0.6 else 0x89
            incoming.append((offset, 0, bytes((status, note, int(chance.integers(1, 128))))))
        if chance.random() < 0.4:
            changing.use(lanes(SETUP))
        for router, rows in zip((quiet, changing), left, strict=True):
            rows += [(frame + offset, m) for offset, _, m in router.cycle(frame, 256, list(incoming))]
        frame += int(chance.choice([256, 2048]))
    assert left[0] == left[1]


def test_an_input_that_listens_elsewhere_and_one_that_is_unplugged_release_what_sounds():
    router = Router(RATE, lanes(SETUP))
    assert router.cycle(0, 64, [(5, 0, b"\x99\x3d\x5a")]) == [(5, 0, b"\x99\x07\x5a")]
    router.use(lanes(replace(SETUP, tracks=(replace(SETUP.live_tracks()[0], channel=4),))))
    assert router.cycle(64, 64, []) == [(0, 0, b"\x89\x07\x40")]
    router.use(lanes(SETUP))
    router.cycle(128, 64, [])
    router.cycle(5000, 64, [(0, 0, b"\x99\x3d\x5a")])
    router.unplug(0)
    assert router.cycle(10_000, 64, []) == [(0, 0, b"\x89\x07\x40")]


def test_a_router_ends_what_one_before_it_left_sounding():
    table = bytearray(SOUNDING_SIZE)
    first = Router(RATE, lanes(SETUP), table)
    first.cycle(0, 64, [(0, 0, b"\x99\x3d\x5a"), (0, 0, b"\x99\x3c\x5a")])
    second = Router(RATE, lanes(SETUP), table)
    assert second.cycle(0, 64, []) == []
    second.connected(0)
    out = [m for begin in range(64, 64 * 60, 64) for _, _, m in second.cycle(begin, 64, [])]
    assert out == [b"\x89\x05\x40", b"\x89\x07\x40"] * 2
    assert not any(table)


@pytest.mark.parametrize(
    "junk",
    [b"", b"\xf8", b"\xfe", b"\xf0\x7d\x01", b"\x3d\x5a", b"\x99", b"\x99\x3d", b"\x99\xa6\x5a", b"\x99\x3d\xff"],
)
def test_messages_that_are_not_playing_neither_stop_nor_delay_a_note(junk):
    router = Router(RATE, lanes(SETUP))
    out = router.cycle(0, 64, [(1, 0, junk), (2, 0, b"\x99\x3d\x5a"), (2, 0, junk), (3, 0, b"\x89\x3d\x00")])
    assert out[0] == (2, 0, b"\x99\x07\x5a")
    later = [m for begin in range(64, 6400, 64) for m in router.cycle(begin, 64, [])]
    assert [m for _, _, m in [*out[1:], *later]] == [b"\x89\x07\x00"]
    assert router.errors == 0


def test_unmapped_hits_leave_nothing_sounding():
    router = Router(RATE, lanes(SETUP))
    assert router.cycle(0, 64, [(0, 0, b"\x99\x63\x5a"), (1, 0, b"\x89\x63\x00")]) == []
    assert router.sounding.is_silent()


def test_the_pedal_counts_for_the_hit_of_its_frame_whichever_came_first():
    setup = RouterConfig(
        ("kit",), ("synth",), note_map_file.shipped("harbour-mesh"), note_map_file.shipped("boathouse-room")
    )
    for incoming in (
        [(5, 0, b"\x99\x68\x50"), (5, 0, b"\xb9\x04\x00")],
        [(5, 0, b"\xb9\x04\x00"), (5, 0, b"\x99\x68\x50")],
    ):
        router = Router(RATE, lanes(setup))
        assert router.cycle(0, 64, incoming) == [(5, 0, b"\xb9\x04\x03"), (5, 0, b"\x99\x0d\x50")]


def test_a_setup_goes_over_the_socket_unchanged():
    assert from_bytes(to_bytes(SETUP)) == SETUP


def test_a_name_finds_the_exact_port_else_the_first_that_contains_it_never_our_own():
    ports = (
        MidiPort("Pure Signal:out 1", True),
        MidiPort("rig:kit out", True),
        MidiPort("kit", True),
        MidiPort("kit", False),
    )
    assert midi_ports.find(ports, "kit", True) == "kit"
    assert midi_ports.find(ports, "KIT O", True) == "rig:kit out"
    assert midi_ports.find(ports, "out", True) == "rig:kit out"
    assert midi_ports.find(ports, "nobody", True) is None


def ons(leaving):
    return [(output, m) for _, output, m in leaving if m[0] & 0xF0 == 0x90]


def test_two_players_never_mix_and_one_input_may_go_to_several():
    kit, pads = note_map_file.shipped("practice-five"), note_map_file.shipped("lantern-pads")
    tracks = (
        LiveTrack(0, 10, kit, (0,)),
        LiveTrack(0, 7, pads, (1,)),
        LiveTrack(1, 0, kit, (1,)),
        LiveTrack(1, 0, kit, (2,)),
        LiveTrack(0, 10, kit, (2,), monitor=False),
    )
    setup = RouterConfig(("a", "b"), ("x", "y", "z"), None, note_map_file.shipped("boathouse-room"), tracks=tracks)
    assert from_bytes(to_bytes(setup)) == setup
    router = Router(RATE, lanes(setup))
    # Note 74 is a foot close of the one kit and the closed hat of the other: the channel tells them apart.
    assert ons(router.cycle(0, 64, [(0, 0, b"\x99\x4a\x50"), (1, 0, b"\x96\x4a\x51")])) == [
        (0, b"\x99\x0e\x50"), (1, b"\x99\x0b\x51"),
    ]  # fmt: skip
    assert ons(router.cycle(64, 64, [(0, 1, b"\x99\x3d\x52")])) == [(1, b"\x99\x07\x52"), (2, b"\x99\x07\x52")]
    released = router.release()
    assert sorted((o, m) for _, o, m in released) == [
        (0, b"\x89\x0e\x40"), (1, b"\x89\x07\x40"), (1, b"\x89\x0b\x40"), (2, b"\x89\x07\x40"),
    ]  # fmt: skip


def test_one_port_may_give_the_notes_and_another_the_controls():
    kit = note_map_file.shipped("practice-five")
    tracks = (LiveTrack(0, 0, kit, (0,), takes="notes"), LiveTrack(1, 0, kit, (0,), takes="control"))
    setup = RouterConfig(("a", "b"), ("x",), None, note_map_file.shipped("boathouse-room"), tracks=tracks)
    assert from_bytes(to_bytes(setup)) == setup
    router = Router(RATE, lanes(setup))
    both = [b"\x99\x3d\x50", b"\xb9\x0b\x40", b"\xe9\x00\x41"]
    leaving = router.cycle(0, 64, [(i, port, m) for i, m in enumerate(both) for port in (0, 1)])
    assert [m for _, _, m in leaving] == [b"\x99\x07\x50", b"\xb9\x0b\x40", b"\xe9\x00\x41"]


def test_what_there_is_no_time_for_is_left_in_order():
    router = Router(RATE, lanes(GENERAL))
    burst = [(i, 0, bytes((0xB9, 20, i))) for i in range(32)]
    # The time is over before it begins: one message is routed all the same, so that it goes on.
    first = router.cycle(0, 64, list(burst), until=0.0)
    assert [m for _, _, m in first] == [burst[0][2]]
    assert router.left == burst[1:]
    rest = router.cycle(64, 64, [(offset - 64, port, m) for offset, port, m in router.left])
    assert [m for _, _, m in rest] == [m for _, _, m in burst[1:]]
    assert {offset for offset, _, _ in rest} == {0}
    assert router.left == []


GENERAL = RouterConfig(
    ("kit",), ("synth",), note_map_file.shipped("general-midi"), note_map_file.shipped("general-midi")
)


@pytest.mark.parametrize("blocks_late", [1, 2, 3])
def test_a_feedback_loop_is_cut_after_a_few_rounds_and_other_playing_goes_on(blocks_late):
    router, size = Router(48_000, lanes(GENERAL)), 256
    wire: list[list[tuple[int, int, bytes]]] = [[] for _ in range(400)]
    wire[0] = [(10, 0, b"\x99\x26\x5a")]
    # Another pad is hit while the loop runs.
    wire[6].append((20, 0, b"\x99\x24\x64"))
    sent = []
    for i in range(300):
        leaving = router.cycle(i * size, size, wire[i])
        sent += ons(leaving)
        wire[i + blocks_late] += [(offset, 0, message) for offset, _, message in leaving]
    snare, kick = (sum(m[1] == note for _, m in sent) for note in (38, 36))
    assert 1 <= snare <= 3
    assert 1 <= kick <= 2
    assert 0 in router.loops


@settings(max_examples=30, deadline=None)
@given(st.integers(21, 60), st.integers(0, 64))
def test_a_perfectly_even_roll_is_not_a_feedback_loop(gap_ms, velocity_step):
    router = Router(48_000, lanes(GENERAL))
    out = []
    for i in range(60):
        velocity = 90 + velocity_step % 30 * (i % 2)
        out += ons(router.cycle(i * gap_ms * 48, 64, [(3, 0, bytes((0x99, 38, velocity)))]))
    assert len(out) == 60
    assert not router.loops


@pytest.mark.parametrize("ahead_ms", [2.0, 4.0, 8.0])
def test_a_look_ahead_delays_everything_alike_and_removes_crosstalk_before_its_cause(ahead_ms):
    kit = note_map_file.shipped("practice-five")
    loud, weak = (next(p for p in kit.pads if p.articulation == a) for a in ("tom1.head", "crash1.bow"))
    assert weak.group == loud.group
    path = CleaningPath()
    path = replace(path, crosstalk=replace(path.crosstalk, live_ms=ahead_ms, learn=False))
    setup = RouterConfig(("kit",), ("synth",), kit, note_map_file.shipped("boathouse-room"), path)
    # The neighbour sends a millisecond before the pad that was hit.
    hits = [(0, weak.note, 14), (50, loud.note, 110), (5000, weak.note, 90), (5000, 61, 80), (9000, loud.note, 100)]
    rows = [(f, 0, bytes((0x99, n, v))) for f, n, v in hits]
    rows += [(f + 2500, 0, bytes((0x89, n, 0))) for f, n, _ in hits]
    out = blocks(Router(RATE, lanes(setup)), sorted(rows, key=lambda r: r[0]), 64, 400_000)
    room = note_map_file.shipped("boathouse-room")
    names = {room.pad_for(p.articulation).note: p.note for p in (loud, weak)}
    names[room.pad_for("snare.head").note] = 61
    ons = [(f, names[m[1]], m[2]) for f, m in out if m[0] == 0x99]
    late = round(ahead_ms / 1000 * RATE)
    wanted = [(f + late, n, v) for f, n, v in hits[1:]]
    assert [(n, v) for _, n, v in ons] == [(n, v) for _, n, v in wanted]
    # A note waits until its last moment has passed, so it may be a block late and never early.
    assert all(0 <= got[0] - due[0] <= 64 for got, due in zip(ons, wanted, strict=True))
    offs = [m for _, m in out if m[0] == 0x89]
    assert len(offs) == len(ons)
