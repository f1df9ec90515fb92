"""Options of the commands that clean, and the path that they mean."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from puresignal.command_line import arguments
from puresignal.translation import tr

if TYPE_CHECKING:
    from puresignal.core.path.cleaning_path import CleaningPath


def settings_help() -> str:
    """Every setting that --settings may hold, made from what the stages declare."""
    from puresignal.core.path import settings_json

    lines = [tr("settings of --settings F.json, each with its usual value and range:")]
    for name, usual, allowed, meaning in settings_json.table():
        lines.append(f"  {name} = {usual}{f'  ({allowed})' if allowed else ''}\n      {meaning}")
    return "\n".join(lines)


def add_path_options(parser: argparse.ArgumentParser) -> None:
    """Options shared by the cleaning commands."""
    parser.add_argument(
        "--source-map", default="auto", metavar="M|auto",
        help=tr("note map of the player's kit: file, id, or name of a kept one; auto finds it from the hits"),
    )  # fmt: skip
    parser.add_argument(
        "--target-map", metavar="M", help=tr("note map of the receiver; without one, notes keep their numbers")
    )
    parser.add_argument("--faults", choices=("remove", "keep"), help=tr("double triggers, crosstalk, bad note ends"))
    parser.add_argument("--unmapped", choices=("drop", "keep"), help=tr("notes that are not in the maps"))
    parser.add_argument("--settings", metavar="F.json", type=arguments.path, help=tr("settings of the stages"))


def add_refining_options(parser: argparse.ArgumentParser) -> None:
    """Options of the stages on the timeline."""
    parser.add_argument(
        "--quantise", default=None, metavar="off|auto|GRID", type=arguments.grid,
        help=tr("pull notes to a grid, like 1/16 or 1/8t; auto takes for each bar what explains it best"),
    )  # fmt: skip
    parser.add_argument(
        "--strength", metavar="0..100", type=arguments.percent, help=tr("how far notes are pulled, in percent")
    )
    parser.add_argument(
        "--swing", metavar="50..75[@1/8]", type=arguments.swing,
        help=tr("where the second of each pair of eighths (or quarters, sixteenths) comes, in percent"),
    )  # fmt: skip
    parser.add_argument(
        "--key", metavar="none|auto|KEY", type=arguments.key, help=tr('hold notes to a key, like "D minor"')
    )


def path_of(options: argparse.Namespace) -> CleaningPath:
    """The path for the options, which override a settings file where they are given."""
    from puresignal.core.path import cleaning_path as paths
    from puresignal.core.path import settings_json
    from puresignal.io import json_file

    path = paths.CleaningPath()
    if options.settings is not None:
        path = settings_json.from_json(json_file.read(options.settings, tr("settings file")), options.settings.name)
    if options.faults is not None:
        path = paths.with_faults(path, options.faults == "remove")
    if options.unmapped is not None:
        path = paths.with_unmapped(path, options.unmapped)
    return path


def refined(path: CleaningPath, options: argparse.Namespace) -> CleaningPath:
    """The path with what the refining options say."""
    from dataclasses import replace

    from puresignal.core.path.scoped import Scoped

    if options.quantise is not None:
        grid = path.timing.grid if options.quantise == "off" else options.quantise
        path = replace(path, timing=replace(path.timing, on=options.quantise != "off", grid=grid))
    if options.strength is not None:
        path = replace(path, timing=replace(path.timing, strength=Scoped(options.strength)))
    if options.swing is not None:
        part, of = options.swing
        path = replace(path, timing=replace(path.timing, swing=part, swung=of))
    if options.key is not None:
        key = path.key.key if options.key == "none" else options.key
        path = replace(path, key=replace(path.key, on=options.key != "none", key=key))
    return path
