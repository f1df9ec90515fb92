"""The portal's file transfer, against a service of the test's own on a bus of its own."""

from __future__ import annotations

import os
import shutil
import subprocess
import threading

import pytest

from puresignal.io import file_transfer

# Without services that start on demand: a portal of the machine's own is none of ours.
BUS_CONFIG = """<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>session</type><listen>unix:tmpdir=/tmp</listen><auth>EXTERNAL</auth>
<policy context="default"><allow send_destination="*" eavesdrop="true"/><allow eavesdrop="true"/>
<allow own="*"/></policy>
</busconfig>
"""


@pytest.fixture
def bus(monkeypatch, tmp_path):
    if shutil.which("dbus-daemon") is None:
        if os.environ.get("CI"):
            pytest.fail("dbus-daemon is missing; ./run test installs it")
        pytest.skip("needs dbus-daemon")
    config = tmp_path / "bus.conf"
    config.write_text(BUS_CONFIG)
    with subprocess.Popen(
        ["dbus-daemon", f"--config-file={config}", "--nofork", "--print-address=1"], stdout=subprocess.PIPE, text=True
    ) as daemon:
        monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", daemon.stdout.readline().strip())
        yield
        daemon.terminate()


def serve(asked, stop):
    from jeepney import new_method_return
    from jeepney.bus_messages import message_bus
    from jeepney.io.blocking import open_dbus_connection

    with open_dbus_connection("SESSION", enable_fds=True) as connection:
        connection.send_and_get_reply(message_bus.RequestName(file_transfer.BUS))
        asked["ready"].set()
        while not stop.is_set():
            try:
                message = connection.receive(timeout=0.2)
            except TimeoutError:
                continue
            member = next((str(v) for k, v in message.header.fields.items() if k.name == "member"), "")
            if member == "StartTransfer":
                asked["options"] = message.body[0]
                connection.send(new_method_return(message, "s", ("key-7",)))
            elif member == "AddFiles":
                key, files, _ = message.body
                with files[0].to_file("rb") as file:
                    asked["added"] = key, file.read()
                connection.send(new_method_return(message))


def test_the_portal_gets_the_open_file_and_gives_a_key(bus, tmp_path):
    path = tmp_path / "ferry.mid"
    path.write_bytes(b"MThd and more")
    asked, stop = {"ready": threading.Event()}, threading.Event()
    service = threading.Thread(target=serve, args=(asked, stop))
    service.start()
    try:
        assert asked["ready"].wait(5)
        assert file_transfer.key_of(path) == b"key-7"
    finally:
        stop.set()
        service.join()
    assert asked["added"] == ("key-7", b"MThd and more")
    assert asked["options"]["autostop"] == ("b", False)


def test_without_a_portal_there_is_no_key(bus, tmp_path, monkeypatch):
    path = tmp_path / "ferry.mid"
    path.write_bytes(b"MThd")
    assert file_transfer.key_of(path) is None
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
    assert file_transfer.key_of(path) is None
