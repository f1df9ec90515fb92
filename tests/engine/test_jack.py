"""`pure-signal route` on a real JACK server, measured at an independent receiver.

Times allow for a busy machine; bench/release.py says what they really are.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path

import pytest

from puresignal.engine import sounding_file
from puresignal.engine.client import RouterProcess
from puresignal.engine.router_config import LiveTrack, RouterConfig
from puresignal.io import note_map_file
from tests.engine.conftest import until

GENERAL = note_map_file.shipped("general-midi")
ON, OFF = b"\x99\x3d\x5a", b"\x89\x3d\x00"
MAPPED_ON, MAPPED_OFF = b"\x99\x07\x5a", b"\x89\x07\x00"


@pytest.fixture
def rig(peers, route):
    """A player, a receiver and the route between them, joined."""
    return join(peers, route)


def join(peers, route):
    kit, synth = peers("kit"), peers("synth")
    process = route("kit:out", "synth:in")
    until(
        lambda: kit.client.get_all_connections(kit.out) and synth.client.get_all_connections(synth.inp),
        what="the route",
    )
    time.sleep(0.05)
    return kit, synth, process


def alive(pid: int) -> bool:
    """Whether a process runs; a zombie does not."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
    except OSError:
        return False


def engine_of(process) -> int:
    return int(subprocess.run(["pgrep", "-P", str(process.pid)], capture_output=True, text=True).stdout.split()[0])


def test_hits_leave_mapped_in_the_block_and_at_the_frame_they_came(rig):
    kit, synth, _ = rig
    for i in range(40):
        kit.play(ON, offset=i % 256)
        kit.play(OFF, offset=(i * 7) % 256)
        time.sleep(0.03)
    until(lambda: len(synth.got) == 80, what="all messages")
    delays = [got[0] - sent[0] for sent, got in zip(kit.sent, synth.got, strict=True)]
    assert {d % 256 for d in delays} == {0}, "an event lost its place in the block"
    # The receiver alone decides whether the graph runs it after or before the router: a direct wire would be the same.
    assert max(delays) <= 256, delays
    assert [m for _, m in synth.got] == [MAPPED_ON, MAPPED_OFF] * 40


def test_a_burst_of_32_at_once_keeps_its_order_and_loses_nothing(rig):
    kit, synth, _ = rig
    notes = [60, 61, 62, 71, 73, 74, 83, 85] * 4
    kit.play(*(bytes([0x99, note, 30 + i]) for i, note in enumerate(notes)), offset=5)
    until(lambda: sum(m[0] == 0x99 for _, m in synth.got) >= 8, what="the burst")
    time.sleep(0.1)
    loud = [m[2] for _, m in synth.got if m[0] == 0x99]
    assert loud == sorted(loud)
    # Hits on one note at one frame are one note, as loud as the loudest.
    assert loud[:8] == list(range(54, 62))


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM], ids=lambda s: s.name)
def test_sounding_notes_are_released_at_exit(rig, how, clock):
    kit, synth, process = rig
    kit.play(ON)
    until(lambda: synth.got, what="the note")
    began = clock.now()
    process.send_signal(how)
    until(lambda: len(synth.got) >= 2, what="the release")
    assert clock.now() - began < 0.4
    assert synth.got[1][1][:2] == b"\x89\x07"
    assert process.wait(5) == 0


def held(kit, synth):
    """Hold a note until the receiver has it: such a server loses what comes in a block it could not finish in time."""
    for _ in range(4):
        kit.play(ON)
        with suppress(AssertionError):
            until(lambda: MAPPED_ON in [m for _, m in synth.got], 2.5, what="the note")
            return
    raise AssertionError("the note never arrived")


def ended(synth):
    """Whether the last message for the note that was held is its end."""
    mine = [m for _, m in synth.got if m[1] == MAPPED_ON[1]]
    return bool(mine) and mine[-1][0] == 0x89


@pytest.mark.parametrize("period", [256, 1024])
def test_a_killed_router_leaves_nothing_sounding_and_is_back_within_a_second(server, peers, route, clock, period):
    server.stop()
    # Waiting for late clients, the server would wait five seconds for a dead one.
    server.start(period, sync=False)
    kit, synth, process = join(peers, route)
    held(kit, synth)
    os.kill(engine_of(process), signal.SIGKILL)
    began = clock.now()
    until(lambda: ended(synth), what="the release")
    assert clock.now() - began < 2.5
    until(lambda: kit.client.get_all_connections(kit.out), what="the connection")
    for _ in range(4):
        kit.play(b"\x99\x3c\x64")
        with suppress(AssertionError):
            until(lambda: synth.got[-1][1] == b"\x99\x05\x64", 2.5, what="the next hit")
            break
    assert synth.got[-1][1] == b"\x99\x05\x64"


def test_what_sounds_when_everything_of_ours_is_killed_is_ended_by_the_next_start(server, peers, route):
    server.stop()
    server.start(256, sync=False)
    kit, synth, process = join(peers, route)
    held(kit, synth)
    engine = engine_of(process)
    os.kill(process.pid, signal.SIGKILL)
    os.kill(engine, signal.SIGKILL)
    until(lambda: not synth.client.get_all_connections(synth.inp), what="the router's end")
    assert not ended(synth)
    # A killed process holds its files for a moment longer.
    until(lambda: len(sounding_file.leftovers()) == 1, what="the file that it left")
    [left] = sounding_file.leftovers()
    # The next one has nothing to do with that receiver.
    route("kit:out", "elsewhere:in")
    until(lambda: ended(synth), what="the release")
    until(lambda: not left.exists(), what="the file's end")


def test_a_receiver_that_comes_back_with_the_server_is_told_what_to_end(server, peers, route):
    kit, synth, _ = join(peers, route)
    held(kit, synth)
    # The library cancels callbacks when their server dies, and one that is in Python then would hang the process.
    synth.close()
    time.sleep(0.3)
    kit.close()
    assert not ended(synth)
    server.process.kill()
    server.process.wait()
    server.start(256)
    again = peers("synth")
    until(lambda: again.client.get_all_connections(again.inp), what="the connection")
    until(lambda: ended(again), 3, what="the release")


def test_when_the_command_is_killed_the_router_releases_and_ends_by_itself(rig):
    kit, synth, process = rig
    engine = engine_of(process)
    kit.play(ON)
    until(lambda: synth.got, what="the note")
    process.kill()
    until(lambda: len(synth.got) >= 2, 2, what="the release")
    process.wait(5)
    until(lambda: not alive(engine), 3, what="the router's end")


def test_an_unplugged_kit_is_released_and_reconnected(rig, peers, clock):
    kit, synth, _ = rig
    kit.play(ON)
    until(lambda: synth.got, what="the note")
    kit.close()
    began = clock.now()
    until(lambda: len(synth.got) == 2, what="the release")
    assert clock.now() - began < 0.6
    again = peers("kit")
    began = clock.now()
    until(lambda: again.client.get_all_connections(again.out), what="the connection")
    assert clock.now() - began < 2.0
    time.sleep(0.05)
    again.play(ON)
    until(lambda: len(synth.got) == 3, what="the next hit")


def test_a_port_missing_at_the_start_is_connected_later(peers, route):
    synth = peers("synth")
    process = route("kit:out", "synth:in")
    until(lambda: synth.client.get_all_connections(synth.inp), what="the output's connection")
    assert process.poll() is None
    kit = peers("kit")
    until(lambda: kit.client.get_all_connections(kit.out), 2, what="the input's connection")
    time.sleep(0.05)
    kit.play(ON)
    until(lambda: synth.got, what="the note")


def test_the_route_survives_the_servers_going_and_coming(server, peers, route):
    kit, synth = peers("kit"), peers("synth")
    process = route("kit:out", "synth:in")
    until(lambda: kit.client.get_all_connections(kit.out), what="the route")
    server.stop()
    time.sleep(0.3)
    assert process.poll() is None
    server.start(128)
    kit, synth = peers("kit"), peers("synth")
    until(lambda: kit.client.get_all_connections(kit.out) and synth.client.get_all_connections(synth.inp), 5)
    time.sleep(0.05)
    kit.play(ON, offset=100)
    until(lambda: synth.got, what="the note")
    assert synth.got[0][1] == MAPPED_ON


def test_three_thousand_events_a_second_are_neither_lost_nor_reordered(rig):
    kit, synth, _ = rig
    count = 2400
    # Two notes on and off, four events in each block of 64 frames: 3,000 a second.
    for i in range(count // 4):
        a, b = 1 + i % 127, 1 + (i + 50) % 127
        kit.todo.append(
            [(0, bytes([0x99, 60, a])), (20, bytes([0x99, 83, b])), (40, b"\x89\x3c\x00"), (60, b"\x89\x53\x00")]
            if i % 40 == 0
            else [
                (0, bytes([0xB9, 11, a])),
                (20, bytes([0xB9, 7, b])),
                (40, bytes([0xB9, 1, a])),
                (60, b"\xb9\x02\x05"),
            ]
        )
    until(lambda: not kit.todo, 20, what="the sending")
    time.sleep(0.2)
    hits = [m for _, m in kit.sent if m[0] == 0x99]
    wanted = [m for _, m in kit.sent if m[0] == 0xB9]
    assert [m for _, m in synth.got if m[0] == 0xB9] == wanted
    assert [m[2] for _, m in synth.got if m[0] == 0x99] == [m[2] for m in hits]
    frames = [f for f, _ in synth.got]
    assert frames == sorted(frames)


def test_ports_are_listed_for_people_and_scripts(server, peers):
    peers("kit")
    command = [sys.executable, "-m", "puresignal.cli", "ports"]
    rows = json.loads(subprocess.run([*command, "--json"], capture_output=True, text=True, check=True).stdout)
    assert {"name": "kit:out", "direction": "in", "system": "JACK"} in rows
    assert {"name": "kit:in", "direction": "out", "system": "JACK"} in rows
    assert "kit:out" in subprocess.run(command, capture_output=True, text=True, check=True).stdout


def test_without_a_server_ports_and_route_report_it(monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    command = [sys.executable, "-m", "puresignal.cli"]
    done = subprocess.run([*command, "ports", "--json"], capture_output=True, text=True, check=False)
    assert (done.returncode, json.loads(done.stdout)) == (0, [])
    assert "no JACK server" in done.stderr
    maps = ["--source-map", "practice-five", "--target-map", "general-midi"]
    process = subprocess.Popen([*command, "route", "--in", "a", "--out", "b", *maps], stderr=subprocess.PIPE, text=True)
    assert "waiting for the JACK server" in process.stderr.readline()
    process.terminate()
    assert process.wait(5) == 0
    process.stderr.close()


@pytest.mark.parametrize(
    "arguments", [("route", "--in", "a"), ("route", "--in", "a", "--out", "b", "--faults", "some"), ("ports", "x")]
)
def test_wrong_usage_is_2(arguments):
    command = [sys.executable, "-m", "puresignal.cli", *arguments]
    assert subprocess.run(command, capture_output=True, check=False).returncode == 2


@pytest.fixture
def routed(server):
    """Start routers as the window does, and close them."""
    made = []

    def start(*inputs, outputs=("synth:in",), tracks=()):
        made.append(RouterProcess(RouterConfig(inputs, outputs, GENERAL, GENERAL, tracks=tracks)))
        return made[-1]

    yield start
    for one in made:
        one.close()


def state_of(router, wanted, seconds=8.0):
    """Read states from the router until one fits."""
    seen = []

    def found():
        state = router.read(0.05)
        seen.append(state or (seen[-1] if seen else None))
        return seen[-1] is not None and wanted(seen[-1]) and seen[-1]

    return until(found, seconds, "the router's state")


def test_two_players_on_two_ports_and_two_channels_keep_to_their_own_receivers(peers, routed):
    first, second, left, right = peers("first"), peers("second"), peers("left"), peers("right")
    tracks = (
        LiveTrack(0, 10, GENERAL, (0,)), LiveTrack(0, 2, None, (1,)), LiveTrack(1, 0, GENERAL, (1,)),
    )  # fmt: skip
    router = routed("first:out", "second:out", outputs=("left:in", "right:in"), tracks=tracks)
    state_of(router, lambda s: all(s["inputs"]) and all(s["outputs"]))
    time.sleep(0.1)
    first.play(b"\x99\x26\x51", b"\x91\x3c\x52", b"\x95\x3c\x53")
    second.play(b"\x99\x24\x54")
    until(lambda: len(right.got) >= 2, 5)
    time.sleep(0.1)
    assert [m for _, m in left.got] == [b"\x99\x26\x51"]
    assert sorted(m for _, m in right.got) == [b"\x91\x3c\x52", b"\x99\x24\x54"]


def test_a_feedback_loop_through_another_program_is_cut_and_reported(peers, routed):
    kit, synth, echo = peers("kit"), peers("synth"), peers("echo")
    router = routed("kit:out", "echo:out", outputs=("synth:in",))
    state_of(router, lambda s: all(s["inputs"]) and all(s["outputs"]))

    def again(_):
        echo.out.clear_buffer()
        for offset, data in echo.inp.incoming_midi_events():
            echo.out.write_midi_event(offset, data)

    # Another program passes on what it gets, and somebody wires it to our output.
    echo.client.deactivate()
    echo.client.set_process_callback(again)
    echo.client.activate()
    # Where the router saw the port come only, what it tells has not changed.
    until(lambda: kit.client.get_all_connections("echo:out"))
    kit.client.connect("Pure Signal:out 1", "echo:in")
    time.sleep(0.2)
    for played in range(1, 5):
        kit.play(b"\x99\x26\x5a")
        try:
            state_of(router, lambda s: s["loops"] == [1], 3.0)
            break
        except AssertionError:
            # A busy server may lose the block of the note, and then there is nothing that could go round.
            if played == 4:
                raise
    kit.play(b"\x89\x26\x00")
    time.sleep(0.3)
    ons = [m for _, m in synth.got if m[0] == 0x99]
    assert 1 <= len(ons) <= 3 * played
    state_of(router, lambda s: s["loops"] == [])
    before = len(synth.got)
    kit.play(b"\x99\x24\x50")
    until(lambda: len(synth.got) > before, 3)
    assert b"\x99\x24\x50" in [m for _, m in synth.got[before:]]


def test_a_connection_from_own_output_to_own_input_is_removed(peers, routed):
    kit, _ = peers("kit"), peers("synth")
    router = routed("kit:out")
    state_of(router, lambda s: all(s["inputs"]) and all(s["outputs"]))
    kit.client.connect("Pure Signal:out 1", "Pure Signal:in 1")
    state_of(router, lambda s: s["loops"] == [0])
    until(lambda: [c.name for c in kit.client.get_all_connections("Pure Signal:in 1")] == ["kit:out"], 3)


def test_the_block_may_change_while_playing(peers, routed):
    kit, synth = peers("kit"), peers("synth")
    router = routed("kit:out")
    state_of(router, lambda s: all(s["inputs"]) and all(s["outputs"]) and s["block"] == 256)
    time.sleep(0.1)
    kit.client.blocksize = 64
    state_of(router, lambda s: s["block"] == 64)
    kit.play(b"\x99\x26\x51", offset=63)
    until(lambda: synth.got, 3)
    kit.client.blocksize = 512
    state_of(router, lambda s: s["block"] == 512)
    kit.play(b"\x99\x24\x52", offset=500)
    until(lambda: len([m for _, m in synth.got if m[0] == 0x99]) == 2, 3)
    # Every event at its own frame, whatever the block.
    frames = {m[1]: f for f, m in kit.sent}
    assert all(f - frames[m[1]] == synth.got[0][0] - frames[0x26] for f, m in synth.got if m[0] == 0x99)


def test_other_programs_connect_to_our_own_ports_when_they_like(peers, routed):
    kit, synth = peers("kit"), peers("synth")
    router = routed("Pure Signal in", outputs=("Pure Signal out",))
    state = state_of(router, lambda s: all(s["inputs"]) and all(s["outputs"]))
    assert (state["inputs"], state["outputs"]) == (["Pure Signal:in 1"], ["Pure Signal:out 1"])
    kit.client.connect("kit:out", "Pure Signal:in 1")
    kit.client.connect("Pure Signal:out 1", "synth:in")
    time.sleep(0.1)
    kit.play(b"\x99\x26\x51")
    until(lambda: [m for _, m in synth.got] == [b"\x99\x26\x51"], 3)


HANGING = """
import sys, time
from puresignal.engine.client import RouterProcess
from puresignal.engine.router_config import RouterConfig
from puresignal.io import note_map_file
general = note_map_file.shipped("general-midi")
router = RouterProcess(RouterConfig(("kit:out",), ("synth:in",), general, general))
while True:
    router.read(0.1)
"""


def test_routing_goes_on_while_whoever_started_it_hangs_and_ends_with_it(peers):
    kit, synth = peers("kit"), peers("synth")
    window = subprocess.Popen([sys.executable, "-c", HANGING])
    try:
        until(lambda: synth.client.get_all_connections(synth.inp), what="the route")
        time.sleep(0.2)
        os.kill(window.pid, signal.SIGSTOP)
        for i in range(20):
            kit.play(bytes((0x99, 38, 60 + i)))
            kit.play(b"\x89\x26\x00")
            time.sleep(0.02)
        kit.play(b"\x99\x24\x70")
        until(lambda: b"\x99\x24\x70" in [m for _, m in synth.got], 3)
        ons = [m[2] for _, m in synth.got if m[:2] == b"\x99\x26"]
        assert ons == [60 + i for i in range(20)]
    finally:
        window.kill()
        window.wait()
    until(lambda: b"\x89\x24" in [m[:2] for _, m in synth.got], 3, "the release")
    until(lambda: not synth.client.get_all_connections(synth.inp), 5, "the router's end")
