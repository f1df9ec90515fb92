"""Glides: tied notes of one voice slide by bend, and everything else is left in tune."""

from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.messages import BEND
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.core.path.length import GLIDES, Length
from puresignal.core.path.scoped import Scoped


def melody(*notes, bend=()):
    """A take of (begin, end, note), with the player's own bends (second, value)."""
    rows = [(b, 0x90, n, 90) for b, _, n in notes] + [(e, 0x80, n, 64) for _, e, n in notes]
    rows += [(at, BEND, value & 127, value >> 7) for at, value in bend]
    rows.sort(key=lambda row: (row[0], row[1] != 0x80))
    columns = list(zip(*rows, strict=True))
    events = Events(
        np.array(columns[0]), np.zeros(len(rows)), columns[1], columns[2], columns[3], np.full(len(rows), -1)
    )
    return Take("t", "t", events, (Port("keys"),), TempoMap.steady(120))


def glided(take, glide=60.0, reach=12.0):
    length = Length(True, voices=Scoped(1.0), glide_ms=Scoped(glide), bend_range=Scoped(reach))
    path = replace(CleaningPath(), length=length)
    outcome = run(take, path, make_context(take, None, None, path))
    bends = outcome.controls.take(outcome.controls.kind == BEND)
    semitones = ((bends.value.astype(int) << 7) + bends.number - 8192) / 8191 * reach
    return outcome, bends.at, semitones


def bend_at(at, semitones, second):
    """The bend in force at a second."""
    place = np.searchsorted(at, second + 1e-9, "right") - 1
    return 0.0 if place < 0 else float(semitones[place])


def test_a_tied_note_begins_at_the_pitch_of_the_one_before_and_is_in_tune_when_the_glide_is_over():
    take = melody((0.0, 0.52, 60), (0.5, 1.0, 67), (1.5, 2.0, 60))
    outcome, at, semitones = glided(take)
    assert bend_at(at, semitones, 0.1) == 0
    assert abs(bend_at(at, semitones, 0.5) + 7) < 0.01
    assert abs(bend_at(at, semitones, 0.53) + 3.5) < 0.4
    assert bend_at(at, semitones, 0.561) == 0
    # Struck after a rest, a note does not slide.
    assert bend_at(at, semitones, 1.5) == 0
    assert outcome.tally.touched_origins(Length.stage).size >= 1
    assert np.count_nonzero(outcome.tally.entries.reason == int(GLIDES)) == 1


def test_a_step_wider_than_the_bend_begins_at_its_edge_and_own_bends_of_the_voice_go():
    take = melody((0.0, 0.5, 40), (0.5, 1.0, 64), bend=((0.2, 12000),))
    _, at, semitones = glided(take, reach=2.0)
    assert abs(bend_at(at, semitones, 0.5) + 2.0) < 0.01
    assert semitones.max() <= 0
    _, at, semitones = glided(take, glide=0.0)
    assert semitones.max() > 5


@given(
    st.lists(st.tuples(st.integers(40, 80), st.floats(0.02, 0.6), st.floats(0.5, 1.3)), min_size=1, max_size=20),
    st.floats(1, 400), st.sampled_from([2.0, 12.0, 24.0]),
)  # fmt: skip
def test_notes_are_kept_and_no_note_that_has_arrived_is_out_of_tune(rows, glide, reach):
    notes, at = [], 0.0
    for note, step, hold in rows:
        notes.append((at, at + step * hold, note))
        at += step
    take = melody(*notes)
    plain, _, _ = glided(take, glide=0.0, reach=reach)
    outcome, when, semitones = glided(take, glide, reach)
    for name in ("start", "end", "note", "velocity"):
        assert np.array_equal(getattr(outcome.output_notes, name), getattr(plain.output_notes, name))
    assert (np.abs(semitones) <= reach).all()
    starts = outcome.output_notes.start
    for i, start in enumerate(starts.tolist()):
        until = starts[i + 1] if i + 1 < len(starts) else np.inf
        settled = start + glide / 1000 + 0.001
        if settled < until - 1e-6:
            assert bend_at(when, semitones, settled) == 0
