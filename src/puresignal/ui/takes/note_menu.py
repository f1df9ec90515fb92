"""The context menu of the selected notes."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QMenu, QWidget

from puresignal.core.kit.articulations import sort_key, spoken
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session import session as edits
from puresignal.translation import count_tr, mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.state.shown import Shown


def made(
    parent: QWidget, services: Services, shown: Shown | None, selected: np.ndarray, act: Callable[[str], None],
    edit: Callable[[str], None],
) -> QMenu:  # fmt: skip
    """The menu for what is selected in the sheet. act: does what a key does; edit: edits the selected notes."""
    menu = QMenu(parent)
    some, single = len(selected) > 0, len(selected) == 1
    for name, label, able in (
        ("keep", mark("Keep"), some),
        ("remove", mark("Remove"), some),
        ("keep_alike", mark("Keep all alike"), single),
        ("remove_alike", mark("Remove all alike"), single),
        ("other_line", mark("Other line of the grid"), some),
        ("automatic", mark("Let the stages decide"), some),
    ):
        action = menu.addAction(tr(label))
        action.setEnabled(able)
        action.triggered.connect(lambda _=False, n=name: act(n))
    menu.addSeparator()
    for name, label in (
        ("split", mark("Split at the position, or in the middle")), ("join", mark("Join to one note")),
        ("octave_up", mark("An octave up")), ("octave_down", mark("An octave down")),
        ("copy_octave_up", mark("Copy an octave up")), ("copy_octave_down", mark("Copy an octave down")),
    ):  # fmt: skip
        action = menu.addAction(tr(label))
        action.setEnabled(some)
        action.triggered.connect(lambda _=False, n=name: edit(n))
    _add_was(menu.addMenu(tr("This was…")), services, shown, selected)
    _add_tracks(menu.addMenu(tr("To track")), services, shown, selected)
    menu.addSeparator()
    hear = menu.addAction(tr("Play in context"))
    hear.setEnabled(some)
    hear.triggered.connect(lambda: act("hear"))
    menu.addAction(tr("Next doubtful")).triggered.connect(lambda: act("next_doubtful"))
    menu.addAction(tr("Whole take")).triggered.connect(lambda: act("show_all"))
    return menu


def _add_tracks(menu: QMenu, services: Services, shown: Shown | None, selected: np.ndarray) -> None:
    """The tracks that the selected notes can go to."""
    rows = [] if shown is None else [(one.track.key, one.title) for one in shown.tracks]
    menu.setEnabled(len(selected) > 0 and len(rows) > 1)
    for key, title in rows:
        action = menu.addAction(title.replace("&", "&&"))
        action.triggered.connect(lambda _=False, k=key: services.note_actions.to_track(selected, k))


def _add_was(menu: QMenu, services: Services, shown: Shown | None, selected: np.ndarray) -> None:
    """Choices of what the selected hits were, by the pads of the chosen take's kit."""
    own = services.workbench.own
    source = None if own is None else own.ref.source
    names = sorted(source.articulations(), key=sort_key) if source is not None else []
    menu.setEnabled(len(selected) > 0 and bool(names) and shown is not None)
    for name in names:
        action = menu.addAction(spoken(name))
        action.triggered.connect(lambda _=False, n=name: call(services, shown, selected, n))


def call(services: Services, shown: Shown | None, origins: np.ndarray, articulation: str) -> None:
    """Decide what hits were, whatever they arrived as."""
    if shown is None:
        return
    bench = services.workbench
    session = bench.session
    for ident, own in shown.whose(origins).items():
        session = edits.with_verdicts(session, ident, own, Verdict(articulation=articulation))
    n = count_tr("{n} note", "{n} notes", len(origins))
    bench.do(tr("call {n} {what}").format(n=n, what=spoken(articulation)), session)
