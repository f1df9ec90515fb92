"""The machine's offers to the program, what is missing, and the line that cures it."""

from __future__ import annotations

import os
import platform
import shutil
import socket
import sys
import tempfile
from ctypes.util import find_library
from dataclasses import dataclass
from importlib import metadata
from pathlib import Path

from puresignal import __version__
from puresignal.io import alsa_ports, audio_ports, jack_library, realtime, xdg_folders
from puresignal.translation import mark, tr

THERE, LIMITED, MISSING = mark("there"), mark("limited"), mark("missing")
DEBIAN, FEDORA, ARCH, SANDBOX, OTHER = "Debian", "Fedora", "Arch", "sandbox", "other"
PACKAGES = {
    "jack": ("libjack-jackd2-0", "jack-audio-connection-kit", "jack2"),
    "pipewire-jack": ("pipewire-jack", "pipewire-jack-audio-connection-kit", "pipewire-jack"),
    "portaudio": ("libportaudio2", "portaudio", "portaudio"),
    "fluidsynth": ("libfluidsynth3", "fluidsynth-libs", "fluidsynth"),
    "xcb-cursor": ("libxcb-cursor0", "xcb-util-cursor", "xcb-util-cursor"),
    "rtkit": ("rtkit", "rtkit", "rtkit"),
}
"""Names of the packages in Debian, Fedora and Arch."""
INSTALL = {
    DEBIAN: "sudo apt-get install {package}",  # not shown
    FEDORA: "sudo dnf install {package}",  # not shown
    ARCH: "sudo pacman -S {package}",  # not shown
}
LOAD_SEQUENCER = "sudo modprobe snd-seq"  # not shown
ENOUGH_SPACE = 1 << 30
"""Bytes that should be free where work is stored: an hour of four recordings needs about that."""


@dataclass(frozen=True)
class Finding:
    """One thing that was looked for.

    key    its name for scripts
    state  THERE, LIMITED (the program runs without it) or MISSING (something that was asked for does not work)
    found  what is there, in a few words
    cure   the line that helps, empty if nothing has to be done
    """

    key: str
    title: str
    state: str
    found: str
    cure: str = ""


def distribution(release: Path = Path("/etc/os-release"), root: Path = Path("/")) -> str:
    """Which kind of distribution this is: DEBIAN, FEDORA, ARCH, SANDBOX or OTHER."""
    if (root / ".flatpak-info").exists() or "SNAP" in os.environ:
        return SANDBOX
    try:
        lines = release.read_text("utf-8", "replace").splitlines()
    except OSError:
        return OTHER
    facts = dict(line.partition("=")[::2] for line in lines)
    kinds = f"{facts.get('ID', '')} {facts.get('ID_LIKE', '')}".replace('"', "").split()
    for names, kind in (
        ({"debian", "ubuntu"}, DEBIAN), ({"fedora", "rhel"}, FEDORA), ({"arch"}, ARCH),
    ):  # fmt: skip
        if names & set(kinds):
            return kind
    return OTHER


def cure(package: str, where: str) -> str:
    """The line that installs one of PACKAGES on a kind of distribution."""
    if where == SANDBOX:
        return tr("The sandbox does not contain it: install the program outside of one to have it.")
    names = dict(zip((DEBIAN, FEDORA, ARCH), PACKAGES[package], strict=True))
    if where in INSTALL:
        return INSTALL[where].format(package=names[where])
    return tr(
        "Install the package that your distribution calls {names}.", names=", ".join(dict.fromkeys(names.values()))
    )


def look() -> list[Finding]:
    """Look for everything. Takes up to some seconds where a service does not answer."""
    where = distribution()
    return [
        _versions(), _jack(where), _pipewire(where), _alsa(where), _pulse(), _sound(where), _real_time(where),
        _soundfonts(where), _display(where), *_folders(),
    ]  # fmt: skip


def lines(findings: list[Finding]) -> list[str]:
    """The findings for reading, one or two lines each."""
    shown = []
    for one in findings:
        shown.append(f"{tr(one.state):<8} {one.title}: {one.found}")
        if one.cure:
            shown.append(f"{'':<8} → {one.cure}")
    return shown


def _versions() -> Finding:
    versions = {"Python": platform.python_version()}
    for package in ("PySide6-Essentials", "numpy", "scipy"):
        try:
            versions[package] = metadata.version(package)
        except metadata.PackageNotFoundError:
            versions[package] = tr("not installed")
    text = ", ".join(f"{name} {version}" for name, version in versions.items())
    known = sys.version_info >= (3, 11)
    return Finding(
        "versions", f"Pure Signal {__version__}", THERE if known else MISSING, f"{text}; {platform.platform()}"
    )


def _jack(where: str) -> Finding:
    title = "JACK"
    try:
        client = jack_library.open_client("Pure Signal doctor")
    except jack_library.NoServerError:
        client = None
    if client is not None and not jack_library.is_pipewire(client):
        text = tr("a server runs: {rate} Hz, {block} frames", rate=client.samplerate, block=client.blocksize)
        client.close()
        return Finding("jack", title, THERE, text)
    if client is not None:
        client.close()
        return Finding("jack", title, THERE, tr("PipeWire stands in for it"))
    if find_library("jack") is None and jack_library.pipewire_library() is None:
        return Finding("jack", title, LIMITED, tr("its library is not installed"), cure("jack", where))
    if jack_library.pipewire_runs():
        return Finding("jack", title, LIMITED, tr("no server runs"))
    return Finding("jack", title, LIMITED, tr("no server runs"), tr("Start one, or PipeWire; ALSA works without."))


def _pipewire(where: str) -> Finding:
    if not jack_library.pipewire_runs():
        return Finding("pipewire", "PipeWire", LIMITED, tr("it does not run"))
    if jack_library.pipewire_library() is None:
        text = tr("it runs, but its JACK library is not installed")
        return Finding("pipewire", "PipeWire", MISSING, text, cure("pipewire-jack", where))
    return Finding("pipewire", "PipeWire", THERE, tr("it runs, with its JACK library"))


def _alsa(where: str) -> Finding:
    title = tr("ALSA sequencer")
    if not alsa_ports.DEVICE.exists():
        text = tr("there is no {file}", file=str(alsa_ports.DEVICE))
        helps = LOAD_SEQUENCER
        if where == SANDBOX:
            helps = tr("Allow the sandbox to use all devices.")
        return Finding("alsa", title, LIMITED, text, helps)
    client = alsa_ports.open_client("Pure Signal doctor")
    if client is None:
        text = tr("{file} may not be used by this account", file=str(alsa_ports.DEVICE))
        return Finding("alsa", title, MISSING, text, "sudo usermod -aG audio $USER")  # not shown
    try:
        return Finding("alsa", title, THERE, tr("{n} MIDI ports", n=len(alsa_ports.ports_of(client))))
    finally:
        client.close()


def _pulse() -> Finding:
    folder = os.environ.get("PULSE_RUNTIME_PATH") or os.path.join(os.environ.get("XDG_RUNTIME_DIR", ""), "pulse")
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as one:
            one.settimeout(1.0)
            one.connect(os.path.join(folder, "native"))
    except OSError:
        return Finding("pulseaudio", "PulseAudio", LIMITED, tr("it does not run"))
    return Finding("pulseaudio", "PulseAudio", THERE, tr("it runs"))


def _sound(where: str) -> Finding:
    title = tr("Sound device")
    try:
        audio_ports.library()
    except audio_ports.NoSoundError:
        return Finding("sound", title, LIMITED, tr("the PortAudio library is not installed"), cure("portaudio", where))
    names = audio_ports.outputs()
    if not names:
        return Finding(
            "sound", title, LIMITED, tr("there is none"), tr("Plug one in; the program will use it by itself.")
        )
    return Finding("sound", title, THERE, ", ".join(names))


def _real_time(where: str) -> Finding:
    title = tr("Real-time scheduling")
    found = realtime.may_have()
    if found.by:
        return Finding("realtime", title, THERE, tr("from the limits") if found.by == realtime.BY_RIGHT else found.by)
    helps = tr("Ask for it outside of the sandbox.") if where == SANDBOX else cure("rtkit", where)
    return Finding("realtime", title, LIMITED, found.why, f"{helps}\n{'':<8}   {realtime.advice()}")


def _soundfonts(where: str) -> Finding:
    title = tr("SoundFonts")
    if find_library("fluidsynth") is None:
        return Finding("soundfont", title, LIMITED, tr("FluidSynth is not installed"), cure("fluidsynth", where))
    return Finding("soundfont", title, THERE, tr("FluidSynth is installed"))


def _display(where: str) -> Finding:
    title = tr("Display")
    name = os.environ.get("WAYLAND_DISPLAY") or os.environ.get("DISPLAY")
    if not name:
        text = tr("there is none; the commands work without")
        return Finding("display", title, LIMITED, text, tr("Start the window from a desktop."))
    if not os.environ.get("WAYLAND_DISPLAY") and find_library("xcb-cursor") is None:
        text = tr("{name}, but a library that Qt needs is not installed", name=name)
        return Finding("display", title, MISSING, text, cure("xcb-cursor", where))
    return Finding("display", title, THERE, name)


def _folders() -> list[Finding]:
    found = []
    for key, title, folder in (
        ("state", tr("Folder of the work"), xdg_folders.state()),
        ("config", tr("Folder of the preferences"), xdg_folders.config()),
        ("data", tr("Folder of kept maps"), xdg_folders.data()),
    ):
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            with tempfile.TemporaryFile(dir=folder):
                pass
            free = shutil.disk_usage(folder).free
        except OSError as error:
            text = f"{folder}: {error.strerror or error}"
            found.append(Finding(key, title, MISSING, text, f"sudo chown -R $USER {folder}"))  # not shown
            continue
        text = tr("{folder}, {free:.1f} GB free", folder=str(folder), free=free / 1e9)
        little = free < ENOUGH_SPACE
        found.append(Finding(key, title, LIMITED if little else THERE, text, tr("Make room there.") if little else ""))
    return found
