"""Handing files to other programs from within a sandbox: the desktop portal's file transfer.

A program in a sandbox has folders of its own, so that the path of a dragged file says nothing to others. The portal
takes the open file, and gives a key by which whoever it is dropped on asks for it.

Source  the interface org.freedesktop.portal.FileTransfer, version 1 (XDG desktop portal)
"""

from __future__ import annotations

import os
from pathlib import Path

from puresignal.io.log_file import log

MIME = "application/vnd.portal.filetransfer"
ANSWER_WITHIN = 2.0
BUS, PLACE, INTERFACE = (
    "org.freedesktop.portal.Documents", "/org/freedesktop/portal/documents", "org.freedesktop.portal.FileTransfer",
)  # fmt: skip


def sandboxed() -> bool:
    """Whether the program runs in a sandbox with folders of its own."""
    return Path("/.flatpak-info").exists() or "SNAP" in os.environ


def key_of(path: Path) -> bytes | None:
    """The key by which other programs get a file; None if there is no portal."""
    from jeepney import DBusAddress, new_method_call
    from jeepney.io.blocking import open_dbus_connection
    from jeepney.low_level import MessageType

    portal = DBusAddress(PLACE, BUS, INTERFACE)
    try:
        with open_dbus_connection("SESSION", enable_fds=True) as bus, path.open("rb") as file:
            # The key lasts as long as whoever asked for it is on the bus, unless it says otherwise.
            options = {"writable": ("b", False), "autostop": ("b", False)}
            begun = bus.send_and_get_reply(
                new_method_call(portal, "StartTransfer", "a{sv}", (options,)), timeout=ANSWER_WITHIN
            )
            if begun.header.message_type is MessageType.error:
                return None
            key = str(begun.body[0])
            added = bus.send_and_get_reply(
                new_method_call(portal, "AddFiles", "saha{sv}", (key, [file], {})), timeout=ANSWER_WITHIN
            )
            return None if added.header.message_type is MessageType.error else key.encode()
    except Exception:
        # Libraries of buses raise many things; a drag without the portal is one with a path.
        log.info("no file transfer by the portal", exc_info=True)
        return None
