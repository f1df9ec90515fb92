"""Results of many notes, worked out beside the real window: the window goes on, and nothing is ever out of date."""

from __future__ import annotations

import io

import mido
import numpy as np
import pytest
from PySide6.QtCore import Qt

from puresignal.core.export.result_maker import ResultMaker, Wanted
from puresignal.core.path.velocity_curve import ALL
from puresignal.core.session import session as edits
from puresignal.io import session_file


@pytest.fixture
def many(demo_window, qtbot):
    """The demo window, in which every result counts as one of many notes."""
    demo_window.workbench.beside_from = 10
    yield demo_window
    demo_window.workbench.end_work()


def follows(window):
    """Whether what is shown is what the window itself would make of the session."""
    bench = window.workbench
    mine = ResultMaker().made(Wanted(bench.session, dict(bench.store.by_ident), is_alone=bench.is_alone))
    wanted, shown = mine.whole[1].outcome.output_notes, bench.whole.outcome.output_notes
    return all(np.array_equal(getattr(wanted, n), getattr(shown, n), equal_nan=True) for n in shown.DTYPES)


def velocities(window):
    return window.workbench.whole.outcome.output_notes.velocity


def halve(window, low=20.0):
    window.show_view("Velocity")
    window.velocity.choose(ALL)
    window.velocity.knobs["high"].slider.setValue(round(low))


def test_a_setting_shows_at_once_and_its_result_when_it_is_there(many, qtbot):
    before = velocities(many)
    halve(many)
    bench = many.workbench
    assert bench.is_behind
    assert many.velocity.knobs["high"].slider.value() == 20
    assert velocities(many) is before
    qtbot.waitUntil(lambda: not bench.is_behind, timeout=20_000)
    qtbot.waitUntil(lambda: velocities(many) is not before, timeout=5000)
    assert follows(many)
    # The next one is quick, and of several in a row only the last is waited for.
    for value in (40, 60, 80):
        many.velocity.knobs["high"].slider.setValue(value)
    qtbot.waitUntil(lambda: not bench.is_behind, timeout=20_000)
    assert dict(bench.session.path.velocity.shapes)[ALL].high == pytest.approx(80, abs=1.5)
    assert follows(many)
    bench.undo()
    qtbot.waitUntil(lambda: not bench.is_behind, timeout=20_000)
    assert follows(many)


def test_what_is_saved_is_the_session_as_it_is(many, qtbot, tmp_path):
    halve(many)
    bench = many.workbench
    made = mido.MidiFile(file=io.BytesIO(bench.midi_bytes()))
    played = [m.velocity for track in made.tracks for m in track if m.type == "note_on" and m.velocity]
    assert not bench.is_behind
    assert follows(many)
    assert sorted(played) == sorted(velocities(many).astype(int).tolist())
    bench.save_session(tmp_path / "many.puresignal")
    assert session_file.read(tmp_path / "many.puresignal").session.path == bench.session.path


def test_a_take_that_goes_is_gone_at_once(many, qtbot):
    halve(many)
    bench = many.workbench
    gone = bench.session.takes[0].ident
    bench.do("remove", edits.without_take(bench.session, gone))
    assert not bench.is_behind
    assert bench.whole is None or gone not in bench.whole.several.idents


def test_without_the_process_the_window_works_it_out_itself(many, qtbot):
    halve(many)
    bench = many.workbench
    qtbot.waitUntil(lambda: not bench.is_behind, timeout=20_000)
    client = bench._worker.client
    client._process.kill()
    client._process.wait(5)
    many.velocity.knobs["high"].slider.setValue(50)
    qtbot.waitUntil(lambda: not bench.is_behind, timeout=20_000)
    assert follows(many)
    many.show_view("Takes")
    qtbot.mouseClick(many.takes.path.boxes["doubles"].box, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not bench.is_behind, timeout=20_000)
    assert follows(many)
