"""The doctor: what is found, and lines that cure what is missing on each distribution."""

from __future__ import annotations

import dataclasses
import json
import os
import subprocess
import sys

import pytest

from puresignal.io import alsa_ports, audio_ports, jack_library, machine, realtime

KNOWN = {
    machine.DEBIAN: {
        "libjack-jackd2-0", "pipewire-jack", "libportaudio2", "libfluidsynth3", "libxcb-cursor0", "rtkit",
    },
    machine.FEDORA: {
        "jack-audio-connection-kit", "pipewire-jack-audio-connection-kit", "portaudio", "fluidsynth-libs",
        "xcb-util-cursor", "rtkit",
    },
    machine.ARCH: {"jack2", "pipewire-jack", "portaudio", "fluidsynth", "xcb-util-cursor", "rtkit"},
}  # fmt: skip
"""What the packages are called in the distributions' own lists."""


@pytest.mark.parametrize("where", KNOWN)
def test_every_line_installs_a_package_that_the_distribution_has(where):
    tool = {machine.DEBIAN: "sudo apt-get install ", machine.FEDORA: "sudo dnf install "}.get(where, "sudo pacman -S ")
    for package in machine.PACKAGES:
        line = machine.cure(package, where)
        assert line.startswith(tool)
        assert line.removeprefix(tool) in KNOWN[where]


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("ID=debian\n", machine.DEBIAN),
        ('ID=some\nID_LIKE="ubuntu debian"\n', machine.DEBIAN),
        ("ID=fedora\n", machine.FEDORA),
        ("ID=other\nID_LIKE=arch\n", machine.ARCH),
        ("ID=else\n", machine.OTHER),
    ],
)
def test_the_distribution_is_known_by_its_own_file(text, kind, tmp_path, monkeypatch):
    monkeypatch.delenv("SNAP", raising=False)
    (tmp_path / "os-release").write_text(text)
    assert machine.distribution(tmp_path / "os-release", tmp_path) == kind
    (tmp_path / ".flatpak-info").write_text("")
    assert machine.distribution(tmp_path / "os-release", tmp_path) == machine.SANDBOX
    assert "sandbox" in machine.cure("jack", machine.SANDBOX)


@pytest.fixture
def bare(monkeypatch, tmp_path):
    """A machine that has nothing."""
    monkeypatch.setattr(machine, "find_library", lambda name: None)
    monkeypatch.setattr(jack_library, "pipewire_library", lambda: None)
    monkeypatch.setattr(jack_library, "pipewire_runs", lambda: True)
    monkeypatch.setattr(alsa_ports, "DEVICE", tmp_path / "seq")
    monkeypatch.setattr(realtime, "may_have", lambda: realtime.RealTime("", "no right, and RTKit does not answer"))

    def no_server(*_):
        raise jack_library.NoServerError("none", "", "")

    def no_sound():
        raise audio_ports.NoSoundError("none", "", "")

    monkeypatch.setattr(jack_library, "open_client", no_server)
    monkeypatch.setattr(audio_ports, "library", no_sound)
    monkeypatch.setenv("DISPLAY", ":7")
    monkeypatch.delenv("WAYLAND_DISPLAY", raising=False)
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    for where in ("STATE", "CONFIG", "DATA"):
        monkeypatch.setenv(f"XDG_{where}_HOME", str(tmp_path / where))


@pytest.mark.parametrize("where", [machine.DEBIAN, machine.FEDORA, machine.ARCH, machine.SANDBOX, machine.OTHER])
def test_everything_that_is_missing_has_a_cure(bare, where, monkeypatch):
    monkeypatch.setattr(machine, "distribution", lambda: where)
    found = {one.key: one for one in machine.look()}
    assert found["pipewire"].state == machine.MISSING
    assert found["display"].state == machine.MISSING
    for key in ("jack", "pipewire", "alsa", "sound", "realtime", "soundfont", "display"):
        assert found[key].state in (machine.LIMITED, machine.MISSING)
        assert found[key].cure, key
    shown = machine.lines(list(found.values()))
    assert sum("→" in line for line in shown) == sum(bool(one.cure) for one in found.values())


def test_a_folder_that_cannot_be_written_is_named(bare, tmp_path, monkeypatch):
    (tmp_path / "STATE").write_text("a file where the folder should be")
    state = next(one for one in machine.look() if one.key == "state")
    assert state.state == machine.MISSING
    assert str(tmp_path / "STATE") in state.found
    assert "chown" in state.cure


def test_the_command_says_the_same_for_people_and_for_scripts(tmp_path):
    environment = {**os.environ, "XDG_STATE_HOME": str(tmp_path), "JACK_DEFAULT_SERVER": "nobody-here"}

    def run(*more):
        command = [sys.executable, "-m", "puresignal.cli", "doctor", *more]
        return subprocess.run(command, capture_output=True, text=True, env=environment)

    rows = json.loads(run("--json").stdout)
    assert {"versions", "jack", "pipewire", "alsa", "sound", "realtime", "display", "state"} <= {r["key"] for r in rows}
    assert all(set(row) == {field.name for field in dataclasses.fields(machine.Finding)} for row in rows)
    shown = run()
    assert shown.returncode == int(any(row["state"] == "missing" for row in rows))
    assert str(tmp_path / "pure-signal") in shown.stdout
