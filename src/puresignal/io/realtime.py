"""Real-time scheduling of a thread: whether it has it, and asking for it - by right, or from the service RTKit."""

from __future__ import annotations

import contextlib
import os
import resource
import signal
import threading
from pathlib import Path
from typing import NamedTuple

from puresignal.translation import tr

PRIORITY = 20
"""As sound servers give their clients; RTKit allows no more than that by default."""
AT_MOST = 200_000
"""Microseconds without a pause that RTKit allows a thread of real time."""
ANSWER_WITHIN = 2.0
BY_RIGHT, BY_SERVICE = "limits", "RTKit"


class RealTime(NamedTuple):
    """by: BY_RIGHT, BY_SERVICE, or empty if it was not had; why: the reason for that, in a sentence."""

    by: str
    why: str


def has_it() -> bool:
    """Whether the calling thread runs with real-time scheduling."""
    return os.sched_getscheduler(0) & ~os.SCHED_RESET_ON_FORK in (os.SCHED_FIFO, os.SCHED_RR)


def ask() -> RealTime:
    """Ask for real-time scheduling of the calling thread."""
    if has_it():
        return RealTime(BY_RIGHT, "")
    try:
        os.sched_setscheduler(0, os.SCHED_FIFO | os.SCHED_RESET_ON_FORK, os.sched_param(PRIORITY))
    except OSError:
        return _ask_service()
    return RealTime(BY_RIGHT, "")


def give_back() -> None:
    """Return the calling thread to ordinary scheduling."""
    with contextlib.suppress(OSError):
        os.sched_setscheduler(0, os.SCHED_OTHER, os.sched_param(0))


def may_have() -> RealTime:
    """Whether a thread of this account could have it. Asks, and gives it back."""
    found = RealTime("", "")

    def work() -> None:
        nonlocal found
        found = ask()

    # On a thread of its own, which ends with what it was given.
    thread = threading.Thread(target=work)
    thread.start()
    thread.join()
    return found


def _ask_service() -> RealTime:
    """Ask RTKit, which is how PipeWire's clients have it on most desktops."""
    from jeepney import DBusAddress, new_method_call
    from jeepney.io.blocking import open_dbus_connection
    from jeepney.low_level import MessageType

    place = DBusAddress("/org/freedesktop/RealtimeKit1", "org.freedesktop.RealtimeKit1", "org.freedesktop.RealtimeKit1")
    call = new_method_call(place, "MakeThreadRealtime", "tu", (threading.get_native_id(), PRIORITY))
    try:
        # It wants a thread to be stopped that never pauses.
        _, hard = resource.getrlimit(resource.RLIMIT_RTTIME)
        most = AT_MOST if hard == resource.RLIM_INFINITY else min(AT_MOST, hard)
        resource.setrlimit(resource.RLIMIT_RTTIME, (most // 2, most))
        if threading.current_thread() is threading.main_thread():
            # Ordinary scheduling is better than being ended.
            signal.signal(signal.SIGXCPU, lambda *_: give_back())
        with contextlib.closing(open_dbus_connection(bus="SYSTEM")) as connection:
            answer = connection.send_and_get_reply(call, timeout=ANSWER_WITHIN)
    except Exception as error:
        return RealTime("", tr("RTKit does not answer ({error})", error=type(error).__name__))
    if answer.header.message_type is MessageType.error:
        return RealTime("", tr("RTKit refuses: {why}", why=str(answer.body[0]) if answer.body else "?"))
    return RealTime(BY_SERVICE, "")


def advice() -> str:
    """The remedy for an account that cannot have it."""
    folder = Path("/etc/security/limits.d")
    return tr(
        "Notes may be late without real-time scheduling. Install rtkit, or add your account to the group audio "
        "(sudo usermod -aG audio $USER), write “@audio - rtprio 95” into {file}, and log in again.",
        file=str(folder / "audio.conf"),
    )
