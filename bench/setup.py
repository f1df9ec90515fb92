"""The one-minute set-up on kits it has never met: pads named, polarity, openings, and what it proposes."""

from __future__ import annotations

import argparse
from dataclasses import replace

import numpy as np

from puresignal.core.kit import guided_setup
from puresignal.core.kit.guided_setup import GuidedSetup, SetupHit
from puresignal.core.kit.note_map import HatPedal, NoteMap
from puresignal.core.midi import messages
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.io import note_map_file
from puresignal.sim import drummer
from puresignal.sim.drum_module import to_take
from puresignal.sim.drummer import Performance, Stroke
from puresignal.sim.trigger_physics import TriggerModule, drawn_knobs

KITS = ("practice-five", "harbour-mesh", "tidewater-compact", "lantern-pads", "boathouse-room", "two-decks")
OPENNESS = {"hat.open": 0.97, "hat.edge.open": 0.95, "hat.half": 0.5, "hat.splash": 0.7}


def random_kit(kit: NoteMap, random: np.random.Generator) -> NoteMap:
    """The kit with other notes, some pads on another channel, another pedal, and without some of its pads."""
    notes = random.permutation(np.arange(1, 127))
    apart = random.random() < 0.2
    pads = []
    for pad, note in zip(kit.pads, notes.tolist(), strict=False):
        if pad.articulation not in ("kick", "snare.head", "hat.closed", "hat.open") and random.random() < 0.1:
            continue
        pads.append(replace(pad, note=int(note), channel=3 if apart and random.random() < 0.3 else None))
    hat = kit.hat
    if hat is not None:
        ends = (int(random.integers(90, 128)), int(random.integers(0, 30)))
        closed, opened = ends if random.random() < 0.7 else ends[::-1]
        hat = HatPedal(int(random.choice([4, 4, 4, 16, 20])), closed, opened, hat.notes_follow_pedal)
    return replace(kit, pads=tuple(pads), channel=int(random.integers(1, 17)), hat=hat)


def asked_strokes(name: str, at: float, random: np.random.Generator) -> list[Stroke]:
    """Strokes of somebody asked for one pad, soft and hard."""
    count = int(random.integers(5, 9))
    levels = np.linspace(random.uniform(20, 42), random.uniform(100, 124), count)
    if random.random() < 0.3:
        levels = random.permutation(levels)
    foot = OPENNESS.get(name, 0.03) if name.startswith("hat.") else None
    strokes = []
    for level in levels.tolist():
        strokes.append(Stroke(at, name, int(np.clip(level + random.normal(0, 6), 8, 127)), "hit", foot))
        at += random.uniform(0.25, 0.6)
    return strokes


def one_kit(kit: NoteMap, seed: int) -> tuple[int, int, bool | None, float, dict[str, str]]:
    """Pads named right, pads, polarity right, openings right, and the pads named wrong."""
    random = np.random.default_rng(seed)
    module = TriggerModule(kit, drawn_knobs(kit, random), seed)
    have = {pad.articulation for pad in kit.pads}
    setup = GuidedSetup()
    events = []
    at = 1.0
    while setup.asked:
        name = setup.asked
        if name != guided_setup.REST and name not in have and not (name == "hat.open" and kit.hat is not None):
            setup = guided_setup.skip(setup)
            continue
        names = [n for n in guided_setup.AUX if n in have] if name == guided_setup.REST else [name]
        strokes: list[Stroke] = []
        for one in names:
            strokes += asked_strokes(one, strokes[-1].start + 1.0 if strokes else at, random)
        if strokes:
            module._random = np.random.default_rng(seed * 100 + setup.step)
            sent = module.perform(Performance(tuple(strokes), (), strokes[-1].start + 1.0, 120.0))
            e = sent.events
            columns = (e.arrived, e.status, e.data1, e.data2)
            for moment, status, data1, data2 in zip(*(c.tolist() for c in columns), strict=True):
                channel = (status & 15) + 1
                if status & 0xF0 == messages.NOTE_ON and data2:
                    setup = guided_setup.heard(setup, SetupHit(moment, channel, data1, data2))
                elif status & 0xF0 == messages.CONTROL:
                    setup = guided_setup.moved(setup, data1, data2)
            events.append(sent)
            at = strokes[-1].start + 2.0
        setup = guided_setup.gone_on(setup)
    learnt = guided_setup.map_of(setup, "My kit")
    truth = {(kit.channel_of(pad), pad.note): pad.articulation for pad in kit.pads}
    named = {(learnt.channel_of(pad), pad.note): pad.articulation for pad in learnt.pads}
    right = sum(named.get(key) == name or (name.startswith("aux") and named.get(key, "").startswith("aux"))
                for key, name in truth.items())  # fmt: skip
    wrong = {name: named.get(key, "nothing") for key, name in truth.items() if named.get(key) != name}
    wrong = {k: v for k, v in wrong.items() if not k.startswith("aux") or not v.startswith("aux")}
    polarity: bool | None = None
    opened = float("nan")
    if kit.hat is not None:
        polarity = (
            learnt.hat is not None
            and (learnt.hat.closed_at > learnt.hat.open_at) == (kit.hat.closed_at > kit.hat.open_at)
            and learnt.hat.controller == kit.hat.controller
        )
        # Another performance on the kit, read with the pedal that was learnt and with the right one.
        played = drummer.improvise(24, 110, seed)
        take = to_take(module.perform(played), "t", "t", 110, "kit")
        found = []
        for note_map in (kit, learnt):
            path = CleaningPath()
            outcome = run(take, path, make_context(take, note_map, None, path))
            notes = outcome.input_notes
            names_of = np.array([*outcome.vocabulary, ""])[notes.articulation]
            found.append(dict(zip(notes.origin.tolist(), names_of.tolist(), strict=True)))
        hats = [o for o, name in found[0].items() if name.startswith("hat.")]
        opened = float(np.mean([found[0][o] == found[1].get(o) for o in hats])) if hats else float("nan")
    return right, len(truth), polarity, opened, wrong


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kits", type=int, default=60)
    args = parser.parse_args()
    rows = []
    for seed in range(args.kits):
        random = np.random.default_rng(seed + 5000)
        kit = note_map_file.shipped(KITS[seed % len(KITS)])
        shipped = seed < len(KITS)
        kit = kit if shipped else random_kit(kit, random)
        rows.append(one_kit(kit, seed))
        right, pads, polarity, opened, wrong = rows[-1]
        if right < pads or polarity is False or opened < 0.98:
            print(f"kit {seed} ({kit.name}): {right} of {pads}, pedal {polarity}, openings {opened:.3f} {wrong}")
    right, pads = sum(row[0] for row in rows), sum(row[1] for row in rows)
    pedals = [row[2] for row in rows if row[2] is not None]
    opened = [row[3] for row in rows if row[3] == row[3]]
    print(f"{len(rows)} kits: pads {right}/{pads} = {right / pads:.3f}; pedal {sum(pedals)}/{len(pedals)}; "
          f"openings {np.mean(opened):.4f}, worst {min(opened):.3f}")  # fmt: skip


if __name__ == "__main__":
    main()
