"""`pure-signal generate`: chords, arpeggios, bass lines and drum patterns."""

from __future__ import annotations

import argparse

from puresignal.command_line import arguments
from puresignal.command_line.parser import Commands, add_command, add_output_options
from puresignal.command_line.results import Results
from puresignal.translation import count_tr, tr


def add(commands: Commands) -> None:
    """Add the command with its options."""
    generate = add_command(
        commands,
        "generate",
        tr("make chords, arpeggios, bass lines or drum patterns"),
        "pure-signal generate drums --out pattern.mid --bars 4 --seed 7",
    )
    generate.add_argument("kind", choices=("chords", "under", "arpeggio", "bass", "drums"), help=tr("what is made"))
    generate.add_argument("--out", required=True, metavar="F.mid", type=arguments.path, help=tr("the result"))
    generate.add_argument(
        "--source", metavar="F.mid", type=arguments.path, help=tr("melody or chords that are listened to")
    )
    generate.add_argument(
        "--bars", type=arguments.bars_to_record, default=8, metavar="N", help=tr("length in bars, usually 8")
    )
    generate.add_argument("--seed", type=int, default=1, metavar="N", help=tr("another number makes other notes"))
    generate.add_argument("--key", default="", metavar="KEY", help=tr('key of chords, like "D minor"'))
    generate.add_argument("--tempo", type=arguments.bpm, default=120.0, metavar="BPM", help=tr("tempo, usually 120"))
    generate.add_argument("--meter", type=arguments.meter, default=(4, 4), metavar="4/4", help=tr("meter, usually 4/4"))
    generate.add_argument(
        "--set", action="append", default=[], metavar="NAME=VALUE", help=tr("a setting, like kicks=4 or rate=1/16")
    )
    generate.add_argument("--force", action="store_true", help=tr("overwrite existing files"))
    add_output_options(generate)
    generate.set_defaults(run=_generate)


def _generate(options: argparse.Namespace) -> int:
    from puresignal.commands import clean, generate
    from puresignal.core.errors import BadFileError, FileAccessError
    from puresignal.core.harmony import keys

    if options.key and options.key not in keys.NAMES:
        raise BadFileError(tr("{key!r} is no key", key=options.key), "--key", tr('Give it like "D minor".'))
    given = {"bars": str(options.bars), "seed": str(options.seed)}
    for text in options.set:
        name, found, value = text.partition("=")
        if not found:
            raise BadFileError(tr("{given!r} is no setting", given=text), "--set", tr("Give it like kicks=4."))
        given[name.strip()] = value.strip()
    recipe = generate.recipe_of(options.kind, given)
    clean.check_folder(options.out.parent, False)
    if options.out.exists() and not options.force:
        text = tr("Give another name, or add --force.")
        raise FileAccessError(tr("This file exists already"), str(options.out), text)
    told = Results(options)
    if told.dry:
        told.planned(options.out, {"target": str(options.out)})
        return told.end()
    count = generate.generate(recipe, options.out, options.tempo, options.meter, options.key, options.source)
    told.done(
        f"{options.out}: {count_tr('{n} note', '{n} notes', count)}", {"target": str(options.out), "notes": count}
    )
    return told.end()
