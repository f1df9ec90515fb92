"""A session as plain JSON data, version 2 (docs/formats.md). Material and verdicts are entries of their own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from puresignal.core.generators.recipe import to_text
from puresignal.core.kit import note_map
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import sound_names
from puresignal.core.midi.events import Take
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path import condition, settings_json
from puresignal.core.path.verdicts import Verdicts
from puresignal.core.session.arrangement import NamedSelection
from puresignal.core.session.held_generator import HeldGenerator
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.recording import RecordingSettings
from puresignal.core.session.session import Session
from puresignal.core.session.sync import Sync
from puresignal.core.session.take_ref import DRAWN, IMPORTED, PLAYED, TakeRef
from puresignal.core.session.track_settings import BY_CONTROLLER
from puresignal.core.timing.session_time import Timeline

FORMAT = "pure-signal/session"
VERSION = 2


def to_json(session: Session, materials: Mapping[str, Take]) -> dict[str, Any]:
    """The session as plain JSON data.

    materials  by ident: all there are, also those of takes that were removed
    """
    return {
        "format": FORMAT,
        "version": VERSION,
        "name": session.name,
        "materials": [material_json(take) for _, take in sorted(materials.items())],
        "takes": [take_json(ref) for ref in session.takes],
        "numbers": session.numbers,
        "timeline": None if session.timeline is None else timeline_json(session.timeline),
        "key": session.key or None,
        "sections": [asdict(one) for one in session.sections],
        "order": list(session.order),
        "loop": None if session.loop is None else [session.loop.begin, session.loop.end],
        **({} if session.recording == RecordingSettings() else {"recording": asdict(session.recording)}),
        **({} if session.sync == Sync() else {"sync": asdict(session.sync)}),
        **({} if session.held == HeldGenerator() else {"held": _held(session.held)}),
        **({"selections": [_selection(one) for one in session.selections]} if session.selections else {}),
        **({"markers": [list(row) for row in session.markers]} if session.markers else {}),
        "alternatives": [
            {"name": one.name, "takes": list(one.takes), "choice": [list(row) for row in one.choice]}
            for one in session.alternatives
        ],
        "target": _map(session.target),
        "path": settings_json.to_json(session.path),
        "tracks": [
            {
                key: value
                for key, value in asdict(track).items()
                if key != "drives" and (key not in ("offset", "hidden", "frozen") or value)
            }
            for track in session.delivery.tracks
        ],
        "track_order": list(session.delivery.order),
        "with_tempo": session.delivery.with_tempo,
        **({"early_live": True} if session.delivery.early_live else {}),
        **({"running_status": True} if session.delivery.running else {}),
        **({"zero_ends": True} if session.delivery.zero_ends else {}),
        "inputs": [input_json(one) for one in session.inputs],
        "destinations": [
            {
                "name": one.name,
                "port": one.port,
                "channel": one.channel,
                "target": _map(one.target),
                **({"offset": one.offset} if one.offset else {}),
                **({} if one.drives == BY_CONTROLLER else {"drives": one.drives}),
                **({} if one.sounds is None else {"sounds": sound_names.to_json(one.sounds)}),
            }
            for one in session.destinations
        ],
        "sends": [{"from": key, "to": list(tracks)} for key, tracks in session.sends],
        "sound": {
            "kit": session.sound.kit,
            "level": session.sound.level,
            "drums": {name: asdict(drum) for name, drum in session.sound.drums},
            "font": session.sound.font,
        },
        "view": {key: value for key, value in asdict(session.display).items() if key != "in_order" or value},
    }


def _held(held: HeldGenerator) -> dict[str, object]:
    return {"recipe": to_text(held.recipe), "to": held.to}


def _map(one: NoteMap | None) -> object:
    return None if one is None else note_map.to_json(one)


def material_json(take: Take) -> dict[str, Any]:
    """A material without its events, which are an entry of their own."""
    if take.original is not None:
        return {"ident": take.ident, "name": take.name, "kind": IMPORTED}
    return {
        "ident": take.ident,
        "name": take.name,
        "kind": PLAYED,
        "begun": take.begun,
        "tempo": _tempo(take.tempo),
    }


def _tempo(tempo: TempoMap) -> dict[str, Any]:
    return {
        "ppq": tempo.ppq,
        "tempos": [[t.tick, t.us_per_quarter] for t in tempo.tempos],
        "meters": [[m.tick, m.numerator, m.denominator] for m in tempo.meters],
    }


def timeline_json(timeline: Timeline) -> dict[str, Any]:
    """Tempo and meters as rows."""
    data: dict[str, Any] = {
        "tempos": [[float(p.beat), float(p.bpm), p.glides] for p in timeline.tempos],
        "meters": [[m.bar, m.numerator, m.denominator] for m in timeline.meters],
    }
    return data | ({"start": timeline.start} if timeline.start else {})


def take_json(ref: TakeRef) -> dict[str, Any]:
    """A take without its verdicts. What is as usual is left out."""
    always = {"ident": ref.ident, "number": ref.number, "name": ref.name, "kind": ref.kind, "material": ref.material}
    data: dict[str, Any] = {**always, "source": _map(ref.source), "beat": ref.beat, "in": ref.is_in}
    data |= {
        key: value
        for key, value in {
            "follows": ref.follows,
            "begin": ref.begin,
            "end": ref.end,
            "input": ref.input,
            "own": ref.own,
            "channels": ref.channels,
            "grid": None if ref.grid is None else timeline_json(ref.grid),
            "passes": [
                {
                    "begin": one.begin,
                    "end": one.end,
                    "beat": one.beat,
                    "in": one.is_in,
                    "track": one.track,
                    "bars": None if one.bars is None else list(one.bars),
                }
                for one in ref.passes
            ],
            "drawn": [
                [one.number, one.beat, one.beats, one.note, one.velocity, one.channel]
                for one in (ref.drawn if ref.kind == DRAWN else ())
            ],
            "recipe": ref.recipe,
            "sound": None if ref.sound is None else asdict(ref.sound),
            "open": ref.is_open,
            "delay": ref.delay,
            "rings": ref.rings,
            "lyrics": [list(row) for row in ref.lyrics],
        }.items()
        if value not in (None, "", [], False)
    }
    return data


def input_json(one: LiveInput) -> dict[str, Any]:
    """A live input."""
    return {
        "ident": one.ident,
        "name": one.name,
        "port": one.port,
        "channel": one.channel or None,
        "more": [[port, channel or None] for port, channel in one.more],
        "source": _map(one.source),
        "output": one.output,
        "armed": one.armed,
        "monitor": one.monitor,
        "takes": one.takes,
        "own": one.own,
    }


def verdicts_json(verdicts: Verdicts) -> list[dict[str, Any]]:
    """A take's verdicts: for each the notes that have it."""
    return [
        {
            "keep": verdict.keep,
            "articulation": verdict.articulation,
            **({"other_line": True} if verdict.other_line else {}),
            "notes": origins.tolist(),
        }
        for verdict, origins in verdicts.by_kind()
    ]


def _selection(one: NamedSelection) -> dict[str, Any]:
    if one.condition is None:
        return {"name": one.name, "notes": list(one.notes)}
    return {"name": one.name, "where": condition.to_json(one.condition)}
