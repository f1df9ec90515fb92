"""The services that every view works with."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QObject, Signal

from puresignal.translation import tr
from puresignal.ui.state.background import Background
from puresignal.ui.state.capture import Capture
from puresignal.ui.state.chosen_input import ChosenInput
from puresignal.ui.state.clap_meter import ClapMeter
from puresignal.ui.state.control_lines import ControlLines
from puresignal.ui.state.delay_meter import DelayMeter
from puresignal.ui.state.freezer import Freezer
from puresignal.ui.state.generator_actions import GeneratorActions
from puresignal.ui.state.hand_controls import HandControls
from puresignal.ui.state.jitter_meter import JitterMeter
from puresignal.ui.state.keyboard_player import KeyboardPlayer
from puresignal.ui.state.kit_setup import KitSetup
from puresignal.ui.state.listener import Listener
from puresignal.ui.state.live_lessons import LiveLessons
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.map_learner import MapLearner
from puresignal.ui.state.microphone import Microphone
from puresignal.ui.state.note_actions import NoteActions
from puresignal.ui.state.notices import Notices
from puresignal.ui.state.outside_master import OutsideMaster
from puresignal.ui.state.phone_input import PhoneInput
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.port_watch import PortWatch
from puresignal.ui.state.preference_store import PreferenceStore
from puresignal.ui.state.renderer import Renderer
from puresignal.ui.state.screen_pads import ScreenPads
from puresignal.ui.state.section_actions import SectionActions
from puresignal.ui.state.settled_voice import SettledVoice
from puresignal.ui.state.signal_watch import SignalWatch
from puresignal.ui.state.simulated_players import SimulatedPlayers
from puresignal.ui.state.sitting_log import SittingLog
from puresignal.ui.state.step_entry import StepEntry
from puresignal.ui.state.take_actions import TakeActions
from puresignal.ui.state.take_tempo import TakeTempo
from puresignal.ui.state.touch_input import TouchInput
from puresignal.ui.state.workbench import Workbench


class Requests(QObject):
    """Requests of views to the window.

    view_requested       show a view: its title
    hits_requested       select these hits in Takes: their origins
    mapping_requested    show the note map of a live input: its number
    files_dropped        open files at a beat from bar 1: (paths, beat)
    save_midi_requested  ask where to save the MIDI file
    maps_changed         the current view shows other maps
    """

    view_requested = Signal(str)
    hits_requested = Signal(object)
    mapping_requested = Signal(int)
    files_dropped = Signal(list, float)
    save_midi_requested = Signal()
    maps_changed = Signal()


@dataclass(frozen=True, eq=False)
class Services:
    """The state of the window, in parts."""

    workbench: Workbench
    live_session: LiveSession
    capture: Capture
    sitting: SittingLog
    delay_meter: DelayMeter
    jitter_meter: JitterMeter
    hand_controls: HandControls
    learner: MapLearner
    kit_setup: KitSetup
    live_lessons: LiveLessons
    microphone: Microphone
    clap_meter: ClapMeter
    renderer: Renderer
    freezer: Freezer
    generators: GeneratorActions
    touch: TouchInput
    phone: PhoneInput
    control_lines: ControlLines
    watch: SignalWatch
    keyboard: KeyboardPlayer
    pads: ScreenPads
    playback: Playback
    players: SimulatedPlayers
    outside: OutsideMaster
    take_actions: TakeActions
    note_actions: NoteActions
    steps: StepEntry
    listener: Listener
    sections: SectionActions
    take_tempo: TakeTempo
    chosen_input: ChosenInput
    port_watch: PortWatch
    preferences: PreferenceStore
    notices: Notices
    requests: Requests
    background: Background


def _show_hearing(notices: Notices, listener: Listener, what: str, part: float) -> None:
    """How far the ear is, with a button that ends it."""
    if what:
        text = tr("{what}: {part:.0f} %").format(what=what, part=100 * part)
        notices.offer(text, tr("Cancel"), tr("Hear no more of it. Nothing is added."), listener.cancel)


def start(workbench: Workbench, parent: QObject) -> Services:
    """All services around a workbench; they live as long as the parent."""
    notices = Notices(parent)
    workbench.message_shown.connect(notices.tell)
    preferences = PreferenceStore(notices, parent)
    live_session = LiveSession(workbench, parent)
    live_session.sound_out = preferences.now.sound
    playback, background = Playback(workbench, live_session, parent), Background(parent)
    capture = Capture(workbench, live_session, playback, parent)
    capture.told.connect(notices.tell)
    listener = Listener(workbench, parent)
    listener.told.connect(notices.tell)
    listener.progressed.connect(lambda what, part: _show_hearing(notices, listener, what, part))
    microphone = Microphone(workbench, live_session, capture, preferences, background, parent)
    microphone.told.connect(notices.tell)
    settled = SettledVoice(workbench, microphone, listener, parent)
    settled.told.connect(lambda text, wrong: notices.tell(text, wrong))
    touch = TouchInput(workbench, live_session, preferences, parent)
    touch.told.connect(notices.tell)
    return Services(
        workbench,
        live_session,
        capture,
        SittingLog(workbench, live_session, playback, capture, notices, parent),
        DelayMeter(live_session, playback, notices, parent),
        JitterMeter(live_session, notices, parent),
        HandControls(live_session, capture, playback, preferences, parent),
        MapLearner(workbench, live_session, parent),
        KitSetup(workbench, live_session, background, parent),
        LiveLessons(workbench, live_session, preferences, background, parent),
        microphone,
        ClapMeter(live_session, playback, microphone, parent),
        Renderer(workbench, parent),
        Freezer(workbench, parent),
        GeneratorActions(workbench, playback, parent),
        touch,
        PhoneInput(touch, parent),
        ControlLines(workbench, parent),
        SignalWatch(workbench, live_session, parent),
        KeyboardPlayer(live_session, preferences.now.keyboard, parent),
        ScreenPads(live_session, parent),
        playback,
        SimulatedPlayers(live_session, playback, parent),
        OutsideMaster(workbench, live_session, playback, parent),
        TakeActions(workbench, playback, parent),
        NoteActions(workbench, playback, parent),
        StepEntry(workbench, live_session, playback, parent),
        listener,
        SectionActions(workbench, playback, notices, parent),
        TakeTempo(workbench, playback, background, notices, parent),
        ChosenInput(workbench, parent),
        PortWatch(parent),
        preferences,
        notices,
        Requests(parent),
        background,
    )
