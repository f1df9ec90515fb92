"""The page for phones in a real browser: from a touch to the router's ring, with the window beside it.

    ./run bench phone_page

Needs chromium or firefox-esr. The browser runs without a screen on this machine, so the network adds nothing: what is
measured is the browser, the line, the window and the router's ring. A note leaves one block later.
"""

from __future__ import annotations

import itertools
import json
import os
import shutil
import statistics
import subprocess
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtWidgets import QApplication
from websockets.sync.client import connect

from puresignal.core.midi import messages
from puresignal.core.touch.phone import Touch
from puresignal.io import ports
from puresignal.io.phone_server import PhoneServer
from puresignal.ui.inputs.found_ports import add_input
from puresignal.ui.shell.demo_window import demo_window

SECONDS, FINGERS, A_SECOND = 60.0, 10, 200


class Browser:
    """A browser that is told what to do: by Chromium's DevTools protocol, or by WebDriver BiDi in Firefox."""

    def __init__(self, program: str, folder: Path, url: str, picture: Path | None):
        self.chromium = "chromium" in program
        self._numbers, self.picture = itertools.count(1), picture
        if self.chromium:
            given = ["--headless=new", "--no-sandbox", "--remote-debugging-port=0", "--touch-events=enabled",
                     "--window-size=844,390", f"--user-data-dir={folder}", url]  # fmt: skip
        else:
            (folder / "user.js").write_text('user_pref("dom.w3c_touch_events.enabled", 1);\n')
            given = ["--headless", "--no-remote", "--remote-debugging-port", "0", "--profile", str(folder)]
        self.process = subprocess.Popen(
            [program, *given], stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, text=True,
            env={**os.environ, "HOME": str(folder)},
        )  # fmt: skip
        address = ""
        assert self.process.stderr is not None
        for line in self.process.stderr:
            if "ws://" in line:
                address = "ws://" + line.split("ws://")[1].strip()
                break
        # What it says must not fill the pipe.
        threading.Thread(target=self.process.stderr.read, daemon=True).start()
        self._line: Any = None
        if self.chromium:
            port = address.split("/")[2]
            import urllib.request

            for _ in range(100):
                pages = json.load(urllib.request.urlopen(f"http://{port}/json"))
                found = [one for one in pages if one["type"] == "page"]
                if found:
                    break
                time.sleep(0.1)
            self._context = connect(found[0]["webSocketDebuggerUrl"])
            self._line = self._context.__enter__()
            return
        self._context = connect(address.rstrip("/") + "/session")
        self._line = self._context.__enter__()
        self.ask("session.new", capabilities={})
        tree = self.ask("browsingContext.getTree")
        self.page = tree["contexts"][0]["context"]
        self.ask("browsingContext.setViewport", context=self.page, viewport={"width": 844, "height": 390})
        self.ask("browsingContext.navigate", context=self.page, url=url, wait="complete")

    def ask(self, method: str, **given: Any) -> Any:
        number = next(self._numbers)
        self._line.send(json.dumps({"id": number, "method": method, "params": given}))
        while True:
            told = json.loads(self._line.recv())
            if told.get("id") == number:
                if "result" not in told:
                    raise RuntimeError(f"{method}: {told}")
                return told["result"]

    def size(self) -> tuple[float, float]:
        wide, high = self.run("[innerWidth, innerHeight]")
        return wide, high

    def taps(self, places: list[tuple[float, float]]) -> None:
        """Fingers go down one by one, then up one by one."""
        wide, high = self.size_now
        if self.chromium:
            down: list[dict[str, Any]] = []
            for i, (x, y) in enumerate(places):
                down.append({"x": x * wide, "y": y * high, "id": i})
                self.ask("Input.dispatchTouchEvent", type="touchStart", touchPoints=down)
            while down:
                down.pop()
                self.ask("Input.dispatchTouchEvent", type="touchEnd", touchPoints=down)
            return
        actions = []
        for i, (x, y) in enumerate(places):
            steps: list[dict[str, Any]] = [{"type": "pointerMove", "x": round(x * wide), "y": round(y * high)}]
            steps += [{"type": "pause", "duration": 0}] * i + [{"type": "pointerDown", "button": 0}]
            steps += [{"type": "pause", "duration": 0}] * (len(places) - i) + [{"type": "pointerUp", "button": 0}]
            row = {"type": "pointer", "id": f"finger{i}", "parameters": {"pointerType": "touch"}, "actions": steps}
            actions.append(row)
        self.ask("input.performActions", context=self.page, actions=actions)

    def run(self, text: str) -> Any:
        """The value of an expression in the page."""
        if self.chromium:
            return json.loads(self.ask("Runtime.evaluate", expression=f"JSON.stringify({text})")["result"]["value"])
        given = {"target": {"context": self.page}, "awaitPromise": False}
        return json.loads(self.ask("script.evaluate", expression=f"JSON.stringify({text})", **given)["result"]["value"])

    def watch(self) -> None:
        """Note in the page how late it hears of its own touches."""
        late = "late.push(performance.now() - event.timeStamp)"
        self.run(f"(window.late = [], addEventListener('touchstart', (event) => {late}, true), 0)")

    def seen(self) -> list[float]:
        return [float(value) for value in self.run("late")]

    def shoot(self) -> None:
        if self.picture is None:
            return
        import base64

        if self.chromium:
            data = self.ask("Page.captureScreenshot")["data"]
        else:
            data = self.ask("browsingContext.captureScreenshot", context=self.page)["data"]
        self.picture.write_bytes(base64.b64decode(data))

    def close(self) -> None:
        self._context.__exit__(None, None, None)
        self.process.kill()
        self.process.wait()

    size_now: tuple[float, float] = (844, 390)


def measured(program: str, seconds: float, picture: Path | None = None, way: str = "rows") -> dict[str, float]:
    """Play on the page for a while; what was sent, what arrived, and how long it took."""
    app = QApplication.instance() or QApplication([])
    window = demo_window()
    window.tells_kept = window.asks_before_closing = False
    window.resize(1280, 800)
    window.show()
    live, touch, phone = window.services.live_session, window.services.touch, window.services.phone
    add_input(window.services, ports.TOUCH)
    touch.set(way=way, rows=4, columns=8, slide="stay")

    def wait(holds: Callable[[], bool], limit: float = 20.0) -> bool:
        end = time.monotonic() + limit
        while not holds() and time.monotonic() < end:
            app.processEvents()
            time.sleep(0.0005)
        return holds()

    assert wait(lambda: bool(live.state.get("inputs")))
    rows: list[tuple[float, bytes]] = []
    in_page: list[float] = []
    in_line: list[float] = []
    told = phone._told

    def came(number: int, touches: tuple[Touch, ...], at: float) -> None:
        in_line.append(1000 * (time.monotonic() - at))
        told.emit(number, touches, at)

    monitored = PhoneServer.__init__

    def began(self: PhoneServer, address: str, face: str, touched: Any, changed: Any, port: int) -> None:
        monitored(self, address, face, came, changed, port)

    PhoneServer.__init__ = began  # type: ignore[method-assign]
    play = live.play

    def noted(port: str, message: bytes, at: float | None = None) -> None:
        play(port, message, at)
        if at is not None:
            rows.append((time.monotonic() - at, message))

    live.play = noted  # type: ignore[method-assign]
    arrived: list[bytes] = []
    live.messages_received.connect(lambda records: arrived.extend(r.data for r in records))
    problem = phone.switch_on("127.0.0.1", 0)
    assert not problem, problem
    server = phone.server
    assert server is not None
    sent, failed = [0], []
    over = threading.Event()

    def player(folder: Path) -> None:
        try:
            browser = Browser(program, folder, server.way_in, picture)
            end = time.monotonic() + 20
            while not server.phones and time.monotonic() < end:
                time.sleep(0.05)
            time.sleep(1.0)
            browser.size_now = browser.size()
            browser.watch()
            places = [((i % 5 + 0.5) / 8, (i // 5 + 0.5) / 4) for i in range(FINGERS)]
            end = time.monotonic() + seconds
            while time.monotonic() < end:
                began = time.monotonic()
                browser.taps(places)
                sent[0] += 2 * FINGERS
                time.sleep(max(0.0, 2 * FINGERS / A_SECOND - (time.monotonic() - began)))
            in_page.extend(browser.seen())
            browser.shoot()
            browser.close()
        except Exception as error:
            failed.append(repr(error))
        over.set()

    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        threading.Thread(target=player, args=(Path(folder),), daemon=True).start()
        wait(over.is_set, seconds + 60)
        wait(lambda: len(arrived) >= sent[0], 3)
    if failed:
        raise RuntimeError(failed[0])
    delays = sorted(1000 * delay for delay, _ in rows)
    held: set[int] = set()
    for message in arrived:
        if messages.is_note_on(message):
            held.add(message[1])
        else:
            held.discard(message[1])
    PhoneServer.__init__ = monitored  # type: ignore[method-assign]
    in_order = arrived == [message for _, message in rows]
    phone.switch_off()
    live.close()
    window.close()
    return {
        "sent": sent[0], "arrived": len(arrived), "in order": float(in_order), "hanging": len(held),
        "a second": sent[0] / seconds, "median ms": statistics.median(delays),
        "of it in the page": statistics.median(in_page), "to the server": statistics.median(in_line),
        "99 % ms": delays[int(0.99 * (len(delays) - 1))], "worst ms": delays[-1],
    }  # fmt: skip


def main() -> None:
    there = [one for one in ("chromium", "firefox-esr") if shutil.which(one)]
    if not there:
        print("neither chromium nor firefox-esr is installed")
    for program in there:
        print(program, {key: round(value, 2) for key, value in measured(program, SECONDS).items()})


if __name__ == "__main__":
    main()
