"""Commands on the program and the machine: `demo`, `maps`, `doctor`, `install` and `uninstall`."""

from __future__ import annotations

import argparse
import json

from puresignal.command_line import arguments
from puresignal.command_line.parser import Commands, add_command
from puresignal.translation import tr


def add(commands: Commands) -> None:
    """Add the commands with their options."""
    demo = add_command(commands, "demo", tr("open the demo session"), "pure-signal demo")
    demo.add_argument("--shots", metavar="DIR", type=arguments.path, help=tr("render every main view to DIR and exit"))
    demo.set_defaults(run=_demo)

    maps = add_command(commands, "maps", tr("list the shipped note maps"), "pure-signal maps --json")
    maps.add_argument("--json", action="store_true", help=tr("as JSON, for scripts"))
    maps.set_defaults(run=_maps)

    doctor = add_command(
        commands, "doctor", tr("what this machine offers, what is missing, and what helps"), "pure-signal doctor"
    )
    doctor.add_argument("--json", action="store_true", help=tr("as JSON, for scripts"))
    doctor.set_defaults(run=_doctor)

    for name, does in (
        ("install", tr("put the program into your desktop: menu entry, file types, completion")),
        ("uninstall", tr("take it out again; sessions, note maps and settings stay")),
    ):
        add_command(commands, name, does, f"pure-signal {name}").set_defaults(run=_desktop)


def _demo(options: argparse.Namespace) -> int:
    from puresignal.ui.shell import app

    return app.run_demo(options.shots)


def _maps(options: argparse.Namespace) -> int:
    from puresignal.io import note_map_file

    rows = []
    for ident in note_map_file.shipped_ids():
        note_map = note_map_file.shipped(ident)
        rows.append({"id": ident, "name": note_map.name, "channel": note_map.channel, "pads": len(note_map.pads)})
    if options.json:
        print(json.dumps(rows, indent=2))
    else:
        for row in rows:
            channel = tr("any channel") if row["channel"] is None else tr("channel {channel}", channel=row["channel"])
            print(
                tr(
                    "{id:<20} {name:<28} {pads:>3} pads, {channel}",
                    id=row["id"],
                    name=row["name"],
                    pads=row["pads"],
                    channel=channel,
                )
            )
    return 0


def _doctor(options: argparse.Namespace) -> int:
    from puresignal.commands import doctor

    return doctor.run(options.json)


def _desktop(options: argparse.Namespace) -> int:
    from puresignal.commands import desktop_entry

    return desktop_entry.main([options.command])
