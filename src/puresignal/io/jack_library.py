"""The JACK binding, once for a JACK server and once for PipeWire's own JACK library.

Both libraries have the same name; without `pw-jack`, the system's one is loaded, which does not know PipeWire. So the
binding is loaded a second time with the other library. A client belongs to the binding that made it.
"""

from __future__ import annotations

import contextlib
import importlib.util
import os
import socket
import sys
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

from puresignal.core.errors import PureSignalError
from puresignal.io.ports import ANNOUNCES, EXACT_FRAMES
from puresignal.translation import tr

SYSTEM, PIPEWIRE = "jack", "jack_of_pipewire"
"""Names of the two bindings among the modules."""
PLACES = ("/usr/lib/*/pipewire-0.3/jack", "/usr/lib64/pipewire-0.3/jack", "/usr/lib/pipewire-0.3/jack")
"""Where distributions put PipeWire's JACK library."""
CAN = frozenset({EXACT_FRAMES, ANNOUNCES})
"""Abilities of clients of either, see port_systems.py."""
BLOCK = 256
"""Frames per block that PipeWire is asked for, if nobody chose another number."""


class NoServerError(PureSignalError):
    """There is no JACK server, or no JACK library."""


def pipewire_runs() -> bool:
    """Whether PipeWire answers on its socket."""
    folder = os.environ.get("PIPEWIRE_RUNTIME_DIR") or os.environ.get("XDG_RUNTIME_DIR")
    if not folder:
        return False
    path = Path(folder) / os.environ.get("PIPEWIRE_REMOTE", "pipewire-0")
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as one:
            one.settimeout(1.0)
            one.connect(str(path))
    except OSError:
        return False
    return True


def pipewire_library() -> Path | None:
    """PipeWire's JACK library, None if it is not installed."""
    for place in PLACES:
        root, _, pattern = place.partition("*")
        folders = Path(root).glob(f"*{pattern}") if pattern else [Path(place)]
        for folder in folders:
            if (folder / "libjack.so.0").exists():
                return folder / "libjack.so.0"
    return None


@cache
def binding(name: str) -> Any:
    """One of the two bindings. Raises OSError if its library is not installed."""
    if name == SYSTEM:
        import jack

        found = jack
    else:
        path = pipewire_library()
        if path is None:
            raise OSError("libjack.so.0")
        # The system's one first: both have the same name, and the loader would take this one for it.
        with contextlib.suppress(OSError):
            binding(SYSTEM)
        found = _second_binding(path)
    found.set_error_function(lambda _: None)
    found.set_info_function(lambda _: None)
    return found


def _second_binding(path: Path) -> Any:
    """The binding once more, with this library."""
    import ctypes.util

    first = importlib.util.find_spec("jack")
    assert first is not None
    spec = importlib.util.spec_from_file_location(PIPEWIRE, first.origin)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    # It looks for the library when it is loaded, by a function that it is given here.
    before = ctypes.util.find_library
    ctypes.util.find_library = lambda name: str(path)
    try:
        spec.loader.exec_module(module)
    finally:
        ctypes.util.find_library = before
    sys.modules[PIPEWIRE] = module
    return module


def binding_of(client: Any) -> Any:
    """The binding that made a client."""
    return sys.modules[type(client).__module__]


def is_pipewire(client: Any) -> bool:
    """Whether a client is one of PipeWire, also where its library has taken the place of the system's."""
    return "PipeWire" in str(binding_of(client).version_string())


def open_client(name: str, block: int = 0) -> Any:
    """A client of the JACK server named by JACK_DEFAULT_SERVER or of the default one, else of PipeWire.

    block  frames per block that PipeWire is asked for; 0 for the usual
    Raises NoServerError if there is neither, saying what to do
    """
    # PipeWire's library reads what is wanted from here; whoever starts the program may want something else.
    if block or not os.environ.get("PIPEWIRE_LATENCY"):
        os.environ["PIPEWIRE_LATENCY"] = f"{block or BLOCK}/48000"
    with contextlib.suppress(OSError, NoServerError):
        return _open(SYSTEM, name)
    if not pipewire_runs():
        check_library()
        raise NoServerError(tr("There is no JACK server"), "", tr("Start it, then try again."))
    try:
        return _open(PIPEWIRE, name)
    except OSError as error:
        raise NoServerError(
            tr("PipeWire runs, but its JACK library is not installed"),
            "",
            tr("Install it with: sudo apt-get install pipewire-jack"),
        ) from error


def check_library() -> None:
    """Raises NoServerError if neither JACK's nor PipeWire's library is installed."""
    try:
        binding(SYSTEM)
    except OSError as error:
        if pipewire_library() is None:
            raise NoServerError(
                tr("The JACK library is not installed"),
                "libjack.so.0",
                tr("Install it with: sudo apt-get install libjack-jackd2-0"),
            ) from error


def _open(which: str, name: str) -> Any:
    jack = binding(which)
    try:
        client = jack.Client(name, no_start_server=True)
    except jack.JackOpenError as error:
        raise NoServerError(tr("There is no JACK server"), "", tr("Start it, then try again.")) from error
    return client


def on_shutdown(client: Any, gone: Callable[[], None]) -> object:
    """Call a function when the server says that it ends. Returns what must be kept as long as the client.

    PipeWire calls only the older of JACK's two functions for this, the one that the binding does not offer.
    """
    import cffi

    client.set_shutdown_callback(lambda *_: gone())
    if not is_pipewire(client):
        return None
    jack, ffi = binding_of(client), cffi.FFI()
    ffi.cdef("void jack_on_shutdown(void *client, void (*function)(void *), void *argument);")  # not shown
    path = None if binding_of(client).__name__ == SYSTEM else str(pipewire_library())
    library = ffi.dlopen(path or jack._libname)
    call = ffi.callback("void(void *)", lambda _: gone())
    library.jack_on_shutdown(ffi.cast("void *", int(jack._ffi.cast("intptr_t", client._ptr))), call, ffi.NULL)
    return ffi, library, call
