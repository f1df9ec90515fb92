"""Everything around the notes of a take: bar lines and ruler, row labels, overview."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QImage, QPainter

from puresignal.core.midi.tempo_map import TempoMap
from puresignal.ui.takes import bar_ruler
from puresignal.ui.takes.overview import OVERVIEW, Overview
from puresignal.ui.takes.row_labels import GUTTER, MOST, NAMES, RowLabels
from puresignal.ui.takes.timeline_rows import Group, Picture, Row
from puresignal.ui.widgets import theme


@given(begin=st.floats(0, 500), width=st.floats(50, 2000), scale=st.floats(0.01, 4000))
def test_lines_stand_apart_and_every_bar_in_view_has_one_unless_there_is_no_room(begin, width, scale):
    tempo = TempoMap()
    times, ranks = bar_ruler.lines(tempo, begin, begin + width / scale, scale)
    assert np.diff(times).min(initial=np.inf) * scale >= bar_ruler.APART - 0.01
    assert set(ranks.tolist()) <= {0, 1, 2}
    bar = 4 * 60 / tempo.bpm_at(begin)
    if bar * scale >= 4 * bar_ruler.APART:
        among = np.arange(np.ceil(begin / bar + 1e-6), np.floor((begin + width / scale) / bar - 1e-6) + 1) * bar
        assert np.isin(np.round(among, 4), np.round(times[ranks == 2], 4)).all()
    fine = bar_ruler.sixteenths(tempo, begin, begin + width / scale, scale)
    assert np.diff(fine).min(initial=np.inf) * scale >= bar_ruler.WHISKERS_APART - 0.01


def test_the_ruler_numbers_bars_where_they_are(qtbot):
    tempo, scale, left = TempoMap(), 100.0, 50.0
    image = QImage(900, bar_ruler.RULER, QImage.Format.Format_RGB32)
    painter = QPainter(image)
    found = bar_ruler.lines(tempo, 0.0, 8.0, scale)
    bar_ruler.paint_ruler(painter, 900, "bar", tempo, found, (left, 0.0, scale), (2.0, 4.0))
    painter.end()
    edge, chosen = theme.current().colour("edge").rgb(), theme.current().colour("chosen").rgb()
    bar = 4 * 60 / tempo.bpm_at(0.0) * scale
    for number in range(1, int(800 / bar)):
        x = round(left + number * bar)
        column = [image.pixel(x + k, bar_ruler.MARKS - 9) for k in (-1, 0, 1)]
        assert edge in column, f"no line at bar {number + 1}"
    assert [image.pixel(x, 4) == chosen for x in (240, 260, 440, 460)] == [False, True, True, False]


def row(label, start, velocity, unmapped=False):
    count = len(start)
    start, velocity, origin = np.array(start, float), np.array(velocity, float), np.arange(count)
    notes = np.full(count, 36)
    return Row(
        label, "kick", "bar", False, unmapped, start, start + 0.1, velocity, notes, origin, np.zeros(count, bool),
        start, start + 0.1, velocity, notes, origin, "kick",
    )  # fmt: skip


def strip(overview, picture, chosen=(), in_view=(2.0, 4.0), width=400):
    image = QImage(width + GUTTER, OVERVIEW, QImage.Format.Format_RGB32)
    painter = QPainter(image)
    box = QRectF(0, 0, image.width(), OVERVIEW)
    overview.paint(painter, box, "whole take", picture, np.array(chosen, bool), in_view)
    painter.end()
    return image


def drawn(image, overview, picture, second, y, colour):
    x = round(GUTTER + second * overview.scale(picture, image.width() - GUTTER))
    return any(image.pixel(x + k, y) == theme.current().colour(colour).rgb() for k in (-1, 0, 1))


def test_the_overview_shows_what_was_played_and_what_leads_nowhere(qtbot):
    overview, loud = Overview(GUTTER), [127.0] * 3
    known, lost = row("kick", [1.0, 5.0, 8.0], loud), row("note 37", [6.0, 9.0], loud[:2], unmapped=True)
    picture = Picture((Group("a", "Kick", "kick", (known, lost)),), 10.0, object())
    image = strip(overview, picture)
    for second in (1.0, 5.0, 8.0):
        assert drawn(image, overview, picture, second, OVERVIEW - 12, "faint")
        assert not drawn(image, overview, picture, second, 6, "accent")
    assert not drawn(image, overview, picture, 7.0, OVERVIEW - 12, "faint")
    assert all(drawn(image, overview, picture, second, 7, "accent") for second in (6.0, 9.0))
    # Once notes are picked out, it points at those instead.
    image = strip(overview, picture, (False, True, False))
    assert drawn(image, overview, picture, 5.0, 7, "accent")
    assert not drawn(image, overview, picture, 8.0, 7, "accent")


def test_the_overview_of_another_take_is_drawn_anew(qtbot):
    overview = Overview(GUTTER)
    first = Picture((Group("a", "Kick", "kick", (row("kick", [1.0], [127.0]),)),), 10.0, object())
    other = Picture((Group("a", "Kick", "kick", (row("kick", [7.0], [127.0]),)),), 10.0, object())
    assert drawn(strip(overview, first), overview, first, 1.0, OVERVIEW - 12, "faint")
    image = strip(overview, other)
    assert drawn(image, overview, other, 7.0, OVERVIEW - 12, "faint")
    assert not drawn(image, overview, other, 1.0, OVERVIEW - 12, "faint")


@given(st.floats(0, 60), st.floats(0.1, 60), st.integers(50, 2000))
def test_a_click_in_the_overview_goes_to_what_is_drawn_there(second, length, width):
    overview, picture = Overview(GUTTER), Picture((), length)
    x = GUTTER + second * overview.scale(picture, width)
    assert overview.second_at(x, picture, width) == pytest.approx(second, abs=1e-6)
    assert GUTTER + length * overview.scale(picture, width) <= GUTTER + width


def test_names_are_drawn_once_until_something_in_them_changes(qtbot):
    names, ink = RowLabels(), QColor("black")
    one = row("kick", [1.0, 2.0], [90.0, 90.0])
    first = names.label(one, 40.0, ink, 1.0)
    assert names.label(one, 40.0, ink, 1.0) is first
    assert names.label(row("kick", [1.0], [90.0]), 40.0, ink, 1.0) != first
    assert names.label(one, 40.0, ink, 2.0).width() == 2 * (GUTTER - NAMES - 1)
    assert names.label(one, 40.0, QColor("red"), 1.0) != first
    for k in range(MOST + 1):
        names.label(row(f"note {k}", [1.0], [90.0]), 40.0, ink, 1.0)
    again = names.label(one, 40.0, ink, 1.0)
    assert again is not first
    assert again == first
    title = names.title(Group("a", "Kick", "kick", (one,)), 40.0, ink, 1.0)
    assert any(title.pixelColor(x, y).alpha() > 0 for x in range(title.width()) for y in range(title.height()))
