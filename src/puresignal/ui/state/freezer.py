"""Freezing tracks: each is rendered beside the window, and then plays from that until it is unfrozen."""

from __future__ import annotations

import contextlib
import time
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from puresignal.commands import rendering
from puresignal.commands.rendering import RenderJob
from puresignal.core.errors import PureSignalError
from puresignal.core.export import frozen, whole_session
from puresignal.core.session import session as edits
from puresignal.core.session.track_settings import Frozen
from puresignal.io import ports, xdg_folders
from puresignal.translation import count_tr, tr
from puresignal.ui.state.renderer import Renderer
from puresignal.ui.state.workbench import Workbench

OUTPUTS = (ports.SOUND, ports.FONT)
KEPT_SECONDS = 90 * 86_400
"""Renderings that no session has used for so long are thrown away when another track is frozen."""


class Freezer(QObject):
    """changed: a track was frozen, or it is under way or over."""

    changed = Signal()

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self._renderer = Renderer(workbench, self)
        self._renderer.finished.connect(self._finished)
        self._renderer.failed.connect(self._failed)
        self._wanted: list[tuple[str, Frozen]] = []
        self._prints: tuple[object, dict[str, str]] = (None, {})

    @property
    def busy(self) -> bool:
        return self._renderer.busy

    def freeze(self, keys: list[str]) -> None:
        """Render some tracks, and let them play from that."""
        bench = self._workbench
        bench.settle()
        whole = bench.whole
        if self.busy or whole is None or whole.several is None:
            return
        outside = [key for key in keys if self._port_of(key) not in OUTPUTS]
        if outside:
            bench.message_shown.emit(
                tr("A track that goes to a port cannot be frozen: render it through its port, and use that instead."),
                True,
            )  # fmt: skip
            return
        folder = _folder()
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        _tidy(folder)
        session, rows = bench.session, {t.track.key for t in whole.tracks if t.out}
        keys = [key for key in keys if key in rows]
        job = RenderJob(rendering.TRACKS, "wav32f", only=tuple(keys), pattern=f"{time.time_ns():x}-{{number}}")
        begin, level = -whole.several.shift, session.sound.level
        names = self._renderer.names(job)
        order = [one.track for one in rendering.parts(session, bench.takes(), job)] if names else []
        self._wanted = [
            (key, Frozen(str(folder / name), frozen.fingerprint(session, whole.outcome, key, OUTPUTS), begin, level))
            for key, name in zip(order, names, strict=True) if key is not None
        ]  # fmt: skip
        try:
            self._renderer.start(job, folder, True)
        except PureSignalError as error:
            bench.message_shown.emit(str(error), True)
        self.changed.emit()

    def unfreeze(self, keys: list[str]) -> None:
        """Let some tracks play from their notes again. The files stay for undo."""
        bench = self._workbench
        changed = [replace(bench.session.delivery.track(key), frozen=None) for key in keys]
        bench.do(tr("unfreeze tracks"), edits.with_tracks(bench.session, changed))

    def states(self) -> dict[str, str]:
        """FRESH, STALE or GONE of each frozen track, by its key."""
        bench = self._workbench
        session, whole = bench.session, bench.whole
        there = [track for track in session.delivery.tracks if track.frozen is not None]
        if not there or whole is None:
            return {}
        made_of = (whole.outcome, session.delivery, session.sound, session.target, session.destinations, session.inputs)
        if self._prints[0] != made_of:
            keys = [track.key for track in there]
            prints = {key: frozen.fingerprint(session, whole.outcome, key, OUTPUTS) for key in keys}
            self._prints = made_of, prints
        found = {}
        for track in there:
            assert track.frozen is not None
            fresh = self._prints[1][track.key] == track.frozen.print
            found[track.key] = frozen.FRESH if fresh else frozen.STALE
            if not Path(track.frozen.path).is_file():
                found[track.key] = frozen.GONE
        return found

    def _port_of(self, key: str) -> str:
        session, whole = self._workbench.session, self._workbench.whole
        assert whole is not None
        keys = [track.key for track in whole.outcome.tracks]
        delivery = whole_session.delivery_of(session, keys)
        return whole_session.played_back_by(session, delivery, keys, ports.SOUND).track(key).port

    def _finished(self) -> None:
        bench, wanted, self._wanted = self._workbench, self._wanted, []
        changed = [replace(bench.session.delivery.track(key), frozen=made) for key, made in wanted]
        if changed:
            bench.do(tr("freeze tracks"), edits.with_tracks(bench.session, changed))
            said = count_tr("{n} track frozen", "{n} tracks frozen", len(changed))
            bench.message_shown.emit(said, False)
        self.changed.emit()

    def _failed(self, why: str) -> None:
        self._wanted = []
        self._workbench.message_shown.emit(why, True)
        self.changed.emit()


def _folder() -> Path:
    return xdg_folders.cache() / "frozen"


def _tidy(folder: Path) -> None:
    """Throw renderings away that have not been used for long."""
    for path in folder.glob("*.wav"):
        with contextlib.suppress(OSError):
            if time.time() - path.stat().st_atime > KEPT_SECONDS:
                path.unlink()
