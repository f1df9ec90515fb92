"""Playing with other programs: whose time is followed, what is known of it, and who gets MIDI clock."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.session import sync
from puresignal.core.session.sync import Sync
from puresignal.engine import outside_time
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.workbench import Workbench

FOLLOWING = "following"
LOOK_MS = 40
BEFORE_BAR_1 = 0.35
"""Seconds before bar 1 at which JACK's transport is started while a count-in leads up to it: it begins with bar 1."""


class OutsideMaster(QObject):
    """Keeps the player to the session's sync settings.

    changed  what is known of the master changed
    """

    changed = Signal()

    def __init__(
        self, workbench: Workbench, live_session: LiveSession, playback: Playback, parent: QObject | None = None
    ):
        super().__init__(parent)
        self._workbench, self._live_session, self._playback = workbench, live_session, playback
        self._told: object = None
        self._known: object = None
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)
        workbench.changed.connect(self._follow)
        workbench.closing.connect(self._leave)
        playback.outside = self

    @property
    def settings(self) -> Sync:
        return self._workbench.session.sync

    @property
    def leads_transport(self) -> bool:
        """Whether Play, Stop and moves of the position are JACK's transport's, which is there."""
        return self.settings.follow == sync.TRANSPORT and bool(self._live_session.state.get("server"))

    @property
    def follows_clock(self) -> bool:
        return self.settings.follow == sync.CLOCK and bool(self.settings.port)

    def words(self) -> str:
        """The program that is followed and its state, in a few words; empty for own time."""
        wanted, player = self.settings, self._live_session.player
        if wanted.follow == sync.OWN:
            return ""
        bpm, state = player.master() if player is not None else (None, outside_time.SILENT)
        if wanted.follow == sync.TRANSPORT:
            return tr("JACK transport") if self._live_session.state.get("server") else tr("No JACK server")
        if not wanted.port:
            return tr("No clock port")
        if wanted.port in self._live_session.absent_ports():
            return tr("Clock unavailable")
        if bpm is None:
            return tr("No clock yet")
        text = tr("Clock {bpm:.1f}").format(bpm=bpm)
        return text if state == outside_time.RUNS else tr("{clock}, stopped").format(clock=text)

    @property
    def bpm(self) -> float | None:
        """The tempo of the clock that is followed."""
        player = self._live_session.player
        return None if player is None or not self.follows_clock else player.master()[0]

    # Asked by the playback

    def start(self, second: float, shift: float) -> bool:
        """Start JACK's transport at a second of the score. False: it is not to be, or before bar 1, where it cannot be.

        shift  seconds of the score before bar 1
        """
        rate = self._live_session.state.get("rate") or 0
        if not self.leads_transport or second < shift - 1e-6 or not rate:
            return False
        self._send(f"locate {round((second - shift) * rate)}")  # not shown
        self._send("start")
        return True

    def stop(self) -> bool:
        """Stop JACK's transport. False: it is not followed."""
        if not self.leads_transport:
            return False
        self._send("stop")
        return True

    def go(self, second: float, shift: float) -> bool:
        """Move JACK's transport. False: it is not followed."""
        rate = self._live_session.state.get("rate") or 0
        if not self.leads_transport or not rate:
            return False
        self._send(f"locate {max(0, round((second - shift) * rate))}")  # not shown
        return True

    def _send(self, what: str) -> None:
        self._live_session.transport(what)

    # Following

    def _leave(self) -> None:
        """Another session is opened, which follows whom it says."""
        self._told = None

    def _follow(self) -> None:
        """Let router and player do what the session says."""
        live, wanted = self._live_session, self.settings
        if wanted.follow == sync.OWN:
            if self._told is not None and live.player is not None:
                live.player.follow(None)
            if self._told is not None:
                self._told = None
                self._timer.stop()
                live.need_no_more(FOLLOWING)
                self.changed.emit()
            return
        if not live.needed_by(FOLLOWING):
            live.need(FOLLOWING)
        names = live.port_names
        what: object = "jack" if wanted.follow == sync.TRANSPORT else None
        if self.follows_clock and wanted.port in names:
            what = names.index(wanted.port)
        told = (what, live.player)
        if told != self._told and live.player is not None:
            self._told = told
            live.player.follow(what)  # type: ignore[arg-type]
            self._playback.arm()
            self._timer.start()
            self.changed.emit()

    def _look(self) -> None:
        """Notice what the master does."""
        self._follow()
        player = self._live_session.player
        if player is None:
            return
        playback = self._playback
        if player.playing and not playback.playing:
            playback.began_outside()
        elif not player.playing and playback.playing and self._said_to_run():
            playback.ended_outside()
        if playback.playing and playback.rolling is not None and self.leads_transport:
            self._lead_after_count_in()
        known = (self.words(), player.master())
        if known != self._known:
            self._known = known
            self.changed.emit()

    def _said_to_run(self) -> bool:
        """Whether the player had begun: what was only asked for may take a moment."""
        return self._playback.was_heard

    def _lead_after_count_in(self) -> None:
        """A count-in before bar 1 is this program's own; with bar 1 all others begin."""
        _, shift = self._playback.time()
        state, _ = self._live_session.transport_state()
        left = shift - self._playback.place
        if state == outside_time.STOPPED and 0.0 < left < BEFORE_BAR_1:
            self.start(shift, shift)
