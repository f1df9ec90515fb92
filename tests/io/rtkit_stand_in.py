"""A stand-in for RTKit on a bus: `python rtkit_stand_in.py grant|refuse` prints the threads that asked."""

from __future__ import annotations

import sys

from jeepney import HeaderFields, MessageType, message_bus, new_error, new_method_return
from jeepney.io.blocking import open_dbus_connection


def main() -> None:
    connection = open_dbus_connection(bus="SYSTEM")
    connection.send_and_get_reply(message_bus.RequestName("org.freedesktop.RealtimeKit1"))
    print("ready", flush=True)
    while True:
        message = connection.receive()
        if message.header.message_type is not MessageType.method_call:
            continue
        if message.header.fields.get(HeaderFields.member) != "MakeThreadRealtime":
            continue
        if sys.argv[1] == "refuse":
            error = "org.freedesktop.DBus.Error.AccessDenied"
            connection.send(new_error(message, error, "s", ("not today",)))
        else:
            print(*message.body, flush=True)
            connection.send(new_method_return(message))


main()
