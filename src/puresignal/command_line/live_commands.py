"""Commands at MIDI ports: `route`, `record`, `play` and `ports`."""

from __future__ import annotations

import argparse
import json
import sys
from typing import Any

from puresignal.command_line import arguments, path_options
from puresignal.command_line.parser import Commands, add_command, add_output_options
from puresignal.command_line.results import Results, sentence
from puresignal.commands.terminal import say
from puresignal.translation import tr


def add(commands: Commands) -> None:
    """Add the commands with their options."""
    route = add_command(
        commands,
        "route",
        tr("map and clean live, from one MIDI port to another"),
        'pure-signal route --in "drum module" --out "my synth" --target-map general-midi',
    )
    route.add_argument("--in", required=True, metavar="PORT", dest="source_port", help=tr("port to listen to"))
    route.add_argument(
        "--out", required=True, metavar="PORT", dest="target_port", help=tr("port to send clean MIDI to")
    )
    path_options.add_path_options(route)
    add_output_options(route, writes=False)
    route.set_defaults(run=_route)

    record = add_command(
        commands,
        "record",
        tr("record MIDI ports to a click, as a session or a MIDI file"),
        'pure-signal record --in "drum module" --out evening.puresignal --tempo 92 --bars 16',
    )
    record.add_argument(
        "--in", required=True, nargs="+", action="extend", metavar="PORT", dest="ports",
        help=tr("ports to record, each as a take of its own"),
    )  # fmt: skip
    record.add_argument(
        "--out", required=True, metavar="FILE|DIR", help=tr("a .puresignal or .mid file, or a folder for a session")
    )
    record.add_argument(
        "--tempo", type=arguments.bpm, default=120.0, metavar="BPM", help=tr("tempo of the click, usually 120")
    )
    record.add_argument("--meter", type=arguments.meter, default=(4, 4), metavar="4/4", help=tr("meter, usually 4/4"))
    record.add_argument(
        "--count-in",
        type=arguments.bars,
        default=1,
        metavar="BARS",
        help=tr("bars of click before it begins, 0 to 4, usually 1"),
    )
    record.add_argument(
        "--bars",
        type=arguments.bars_to_record,
        metavar="N",
        help=tr("end after so many bars; with --loop, the loop's length"),
    )
    record.add_argument("--loop", action="store_true", help=tr("record round and round; each round is a pass"))
    record.add_argument(
        "--click",
        default="sound",
        metavar="PORT|sound|none",
        help=tr("where the click goes, usually the built-in sound"),
    )
    path_options.add_path_options(record)
    record.add_argument("--raw", action="store_true", help=tr("write what arrived, neither mapped nor cleaned"))
    record.add_argument("--force", action="store_true", help=tr("overwrite existing files"))
    add_output_options(record, writes=False)
    record.set_defaults(run=_record)

    play = add_command(
        commands,
        "play",
        tr("play a session or a MIDI file to a MIDI port"),
        'pure-signal play evening.puresignal --out "my synth" --from 9',
    )
    play.add_argument("input", metavar="IN", type=arguments.path, help=tr("a session or a MIDI file"))
    play.add_argument("--out", required=True, metavar="PORT", dest="port", help=tr("port to play to"))
    play.add_argument("--from", type=int, default=1, metavar="BAR", dest="bar", help=tr("bar to begin at"))
    play.add_argument("--loop", action="store_true", help=tr("play it again and again"))
    add_output_options(play, writes=False)
    play.set_defaults(run=_play)

    ports = add_command(commands, "ports", tr("list the MIDI ports"), "pure-signal ports --json")
    ports.add_argument("--json", action="store_true", help=tr("as JSON, for scripts"))
    ports.set_defaults(run=_ports)


def _route(options: argparse.Namespace) -> int:
    import signal

    from puresignal.engine.client import RouterProcess
    from puresignal.engine.router_config import RouterConfig
    from puresignal.io import alsa_ports, jack_ports, note_map_file

    setup = RouterConfig(
        (options.source_port,),
        (options.target_port,),
        note_map_file.find_source("general-midi" if options.source_map == "auto" else options.source_map),
        None if options.target_map is None else note_map_file.find(options.target_map),
        path_options.path_of(options),
    )
    if not alsa_ports.DEVICE.exists():
        jack_ports.check_library()
    ended: list[int] = []
    told = Results(options)
    router = RouterProcess(setup)

    def end(number: int, _: object) -> None:
        ended.append(number)
        router.hang_up()

    for one in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(one, end)
    said: list[str] = []
    restarts = 0
    while not ended:
        state = router.read(0.1)
        if router.restarts != restarts:
            restarts = router.restarts
            print(tr("pure-signal: the router died and was restarted; nothing was left sounding"), file=sys.stderr)
            said = []
        if state is None:
            continue
        now = _route_state(state, options)
        for line in now:
            if line not in said:
                told.warn(line)
        said = now
    router.close()
    return 0


def _route_state(state: dict[str, Any], options: argparse.Namespace) -> list[str]:
    """The router's state in words, one line each."""
    if not state["server"] and not (state["inputs"][0] and state["outputs"][0]):
        return [tr("waiting for the JACK server")]
    lines = [tr("loop detected: our output comes back in; what comes back is dropped")] if state["loops"] else []
    for what, name, found in (
        ("input", options.source_port, state["inputs"][0]),
        ("output", options.target_port, state["outputs"][0]),
    ):
        lines.append(
            f"{what}: {found}" if found else tr("waiting for a port called {name!r} ({what})", name=name, what=what)
        )
    return lines


def _until_signalled() -> list[int]:
    """A list that gets the number of the signal that asks the program to end."""
    import signal

    ended: list[int] = []
    for one in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(one, lambda number, _: ended.append(number))
    return ended


def _record(options: argparse.Namespace) -> int:
    from puresignal.commands import record
    from puresignal.io import alsa_ports, jack_ports, note_map_file

    target = record.target_of(options.out, options.force)
    wanted = record.Options(
        tuple(dict.fromkeys(options.ports)), options.tempo, options.meter, options.count_in, options.bars, options.loop,
        options.click, None if options.source_map == "auto" else note_map_file.find_source(options.source_map),
        None if options.target_map is None else note_map_file.find(options.target_map),
        path_options.path_of(options), options.raw,
    )  # fmt: skip
    if not alsa_ports.DEVICE.exists():
        jack_ports.check_library()
    ended, told = _until_signalled(), Results(options)
    progress = told.progress

    recording = record.Recording(wanted, told.warn)
    try:
        if not recording.wait(lambda: bool(ended)):
            return 0
        recording.start()
        recording.run(lambda: bool(ended), told.show_line if progress else None)
        session, takes = recording.end()
    finally:
        recording.close()
        if progress:
            told.end_progress()
    done = record.write(target, session, takes, options.raw)
    passes = tr(", {n} passes", n=done.passes) if done.passes else ""
    said = f"{done.target}: {', '.join(done.names)}{passes}: {sentence(done.sums)}"  # not shown
    told.done(said, {"target": str(done.target), "takes": list(done.names), "sums": done.sums})
    return told.end()


def _play(options: argparse.Namespace) -> int:
    from puresignal.commands import play
    from puresignal.core.errors import FileAccessError
    from puresignal.io import alsa_ports, jack_ports

    if not options.input.exists():
        raise FileAccessError(tr("There is no such file or folder"), str(options.input), tr("Check the name."))
    if not alsa_ports.DEVICE.exists():
        jack_ports.check_library()
    ended, told = _until_signalled(), Results(options)
    playing = play.Playing(options.input, options.port, options.bar, options.loop)
    try:
        if playing.wait(lambda: bool(ended), told.warn):
            playing.run(lambda: bool(ended))
    finally:
        playing.close()
    return 0


def _ports(options: argparse.Namespace) -> int:
    from puresignal.io import port_systems

    found, why = port_systems.listing()
    if why:
        say(f"pure-signal: {why}", sys.stderr)
    rows = [{"name": p.name, "direction": "in" if p.gives else "out", "system": p.system} for p in found]
    if options.json:
        print(json.dumps(rows, indent=2))
    else:
        for row in rows:
            say(f"{row['direction']:<4} {row['system']:<5} {row['name']}")
    return 0
