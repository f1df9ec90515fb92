"""The page that a phone on the table opens, and the line on which it tells what fingers do.

A thread of its own serves one address of this machine, and on it only the page's own files and one WebSocket (RFC
6455). A phone is let in by the token of the QR code or by a short code. Both serve once; the phone that used them
gets a seat, with which it may come back after its link was lost. What else arrives ends the connection.
"""

from __future__ import annotations

import asyncio
import contextlib
import hmac
import json
import secrets
import socket
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from http import HTTPStatus
from pathlib import Path
from string import Template
from typing import Any

from websockets.asyncio.server import ServerConnection, serve
from websockets.datastructures import Headers
from websockets.exceptions import ConnectionClosed
from websockets.http11 import Request, Response

from puresignal.core.errors import PureSignalError
from puresignal.core.touch import phone
from puresignal.core.touch.phone import ClockFit, Fingers, Hello, PhoneError, Pong, Rate, Touch, Touches
from puresignal.io.log_file import log
from puresignal.translation import language, tr

PAGE = Path(__file__).with_name("phone_page")
FILES = {
    "/": ("page.html", "text/html"), "/page.css": ("page.css", "text/css"),
    "/page.js": ("page.js", "text/javascript"), "/awake.webm": ("awake.webm", "video/webm"),
    "/awake.mp4": ("awake.mp4", "video/mp4"),
}  # fmt: skip
LINE = "/touch"
PORT = 47808
"""The usual port, so that an address that was typed once serves again; another if it is taken."""
HELLO_SECONDS = 5.0
ASK_SECONDS = 0.25
SILENT_SECONDS = 1.0
"""A phone that is silent for so long has its fingers lifted: it sleeps, or its link is lost."""
DEAD_SECONDS = 5.0
MOST_PHONES = 4
MOST_GUESTS = 12
"""Connections at once, with those that are not let in yet."""
MOST_WRONG = 5
"""Wrong tokens and codes, after which the code that is shown serves no more."""


class PhoneServerError(PureSignalError):
    """The page cannot be served."""


@dataclass(frozen=True)
class Offer:
    """A key that lets one phone in, once. token: of the QR code; code: six digits."""

    token: str
    code: str


@dataclass
class _Phone:
    number: int
    seat: str
    clock: ClockFit = field(default_factory=ClockFit)
    fingers: Fingers = field(default_factory=Fingers)
    connection: ServerConnection | None = None
    heard: float = 0.0


class PhoneServer:
    """Serves until closed. Calls come from its thread.

    touched  (number of the phone, touches, seconds of the monotonic clock)
    changed  phones came or went, an offer was used
    face     the message that fills the page
    """

    def __init__(
        self, address: str, face: str, touched: Callable[[int, tuple[Touch, ...], float], None],
        changed: Callable[[], None], port: int = PORT,
    ):  # fmt: skip
        """Raises PhoneServerError if the address cannot be used."""
        self.address = address
        self._touched, self._changed, self._face = touched, changed, face
        self._held = "[]"
        self._phones: dict[int, _Phone] = {}
        self._guests, self._wrong = 0, 0
        self.offer: Offer | None = None
        self.withdrawn = False
        self._socket = self._bound(address, port)
        self.port = self._socket.getsockname()[1]
        self.host = f"{address}:{self.port}"
        self._loop = asyncio.new_event_loop()
        self._end = asyncio.Event()
        self.renew()
        self._thread = threading.Thread(target=self._run, name="phone", daemon=True)
        self._thread.start()

    @staticmethod
    def _bound(address: str, port: int) -> socket.socket:
        last: OSError | None = None
        for number in (port, 0):
            made = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
            try:
                made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                made.bind((address, number))
                made.listen(16)
                return made
            except OSError as error:
                made.close()
                last = error
        raise PhoneServerError(
            tr("the page cannot be served: {why}", why=(last.strerror if last else "") or str(last)),
            address,
            tr("Choose another network."),
        )

    # From other threads

    def renew(self) -> None:
        """Make a new offer; the one before serves no more."""
        self.offer = Offer(secrets.token_urlsafe(24), f"{secrets.randbelow(10**6):06}")
        self._wrong, self.withdrawn = 0, False

    @property
    def url(self) -> str:
        """The page's address."""
        return f"http://{self.host}/"

    @property
    def way_in(self) -> str:
        """The page's address with the token, for the QR code; empty once it was used."""
        offer = self.offer
        # What follows the # stays in the browser.
        return f"{self.url}#{offer.token}" if offer is not None else ""

    @property
    def phones(self) -> list[tuple[int, float | None, float | None]]:
        """The phones that are connected: number, delay and jitter in milliseconds."""
        return [
            (one.number, one.clock.delay, one.clock.jitter)
            for one in list(self._phones.values()) if one.connection is not None
        ]  # fmt: skip

    def show(self, face: str) -> None:
        """Fill the page anew."""
        self._face = face
        self._say(face)

    def light(self, held: list[tuple[int, int, int]]) -> None:
        """Show the cells that are held: row, column, velocity."""
        told = json.dumps(held)
        if told != self._held:
            self._held = told
            self._say(json.dumps({"held": held}))

    def _say(self, message: str) -> None:
        with contextlib.suppress(RuntimeError):  # it is closed
            self._loop.call_soon_threadsafe(self._tell_all, message)

    def close(self) -> None:
        """Lift all fingers and let go of the address. Returns when done."""
        with contextlib.suppress(RuntimeError):
            self._loop.call_soon_threadsafe(self._end.set)
        self._thread.join(3)

    # The thread

    def _run(self) -> None:
        try:
            self._loop.run_until_complete(self._serve())
        except Exception:
            log.exception("the page for phones ended")
        finally:
            self._socket.close()
            self._loop.close()

    async def _serve(self) -> None:
        async with serve(
            self._line, sock=self._socket, origins=[f"http://{self.host}"],  # type: ignore[list-item]
            process_request=self._answer, compression=None, max_size=phone.LONGEST, max_queue=64, write_limit=65536,
            open_timeout=HELLO_SECONDS, close_timeout=0.5, ping_interval=None, server_header=None,
        ):  # fmt: skip
            await self._end.wait()
        for one in self._phones.values():
            self._lift(one)

    def _answer(self, connection: ServerConnection, request: Request) -> Response | None:
        """The page's files; None for the line itself."""
        # A name that some other page made to point here is not ours.
        if request.headers.get_all("Host") != [self.host]:
            why = tr("Open this page by the address that Pure Signal shows.")
            return self._response(HTTPStatus.MISDIRECTED_REQUEST, why.encode(), "text/plain")
        if request.path == LINE:
            full = self._guests >= MOST_GUESTS
            return self._response(HTTPStatus.SERVICE_UNAVAILABLE, b"", "text/plain") if full else None
        if request.path not in FILES:
            return self._response(HTTPStatus.NOT_FOUND, b"", "text/plain")
        name, kind = FILES[request.path]
        data = (PAGE / name).read_bytes()
        if request.path == "/":
            data = Template(data.decode()).substitute(
                language=language(), ask=tr("Type the code that Pure Signal shows."), join=tr("Play"),
                lost=tr("The link is lost. Trying again…"),
            ).encode()  # fmt: skip
        return self._response(HTTPStatus.OK, data, kind)

    def _response(self, status: HTTPStatus, body: bytes, kind: str) -> Response:
        policy = (
            "default-src 'none'; script-src 'self'; style-src 'self'; media-src 'self'; img-src data:; "  # not shown
            f"connect-src 'self' ws://{self.host}; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
        )
        if kind.startswith("text/"):
            kind += ";charset=utf-8"
        headers = Headers({
            "Content-Type": kind, "Content-Length": str(len(body)), "Connection": "close", "Cache-Control": "no-store",
            "Content-Security-Policy": policy, "X-Content-Type-Options": "nosniff", "Referrer-Policy": "no-referrer",
            "Cross-Origin-Opener-Policy": "same-origin",
        })  # fmt: skip
        return Response(status.value, status.phrase, headers, body)

    async def _line(self, connection: ServerConnection) -> None:
        """One connection, from its first message to its end."""
        self._guests += 1
        try:
            one = await self._let_in(connection)
            if one is not None:
                await self._play(one, connection)
        except ConnectionClosed:
            pass
        finally:
            self._guests -= 1
            # Also of a phone that was gone before it heard that it was let in.
            for other in self._phones.values():
                if other.connection is connection:
                    other.connection = None
                    self._lift(other)
                    self._changed()

    async def _let_in(self, connection: ServerConnection) -> _Phone | None:
        try:
            async with asyncio.timeout(HELLO_SECONDS):
                told = phone.read(await connection.recv())
        except (TimeoutError, PhoneError):
            await connection.close(1008, "no greeting")  # not shown
            return None
        one = self._seated(told) if isinstance(told, Hello) else None
        if one is None:
            # Whoever tries one after the other is slowed down.
            await asyncio.sleep(0.3)
            why = tr("This code does not serve, or another phone has used it. Ask Pure Signal for a new one.")
            await connection.send(json.dumps({"refused": why}))
            await connection.close(1008, "refused")  # not shown
            return None
        before, one.connection = one.connection, connection
        if before is not None:
            self._lift(one)
            # The same phone has come back before its old line was known to be lost.
            asyncio.ensure_future(before.close(1001, "replaced"))  # noqa: RUF006
        await connection.send(json.dumps({"seat": one.seat}))
        await connection.send(self._face)
        await connection.send(json.dumps({"held": json.loads(self._held)}))
        return one

    def _seated(self, hello: Hello) -> _Phone | None:
        if hello.how == "seat":
            return next((one for one in self._phones.values() if _same(one.seat, hello.secret)), None)
        offer = self.offer
        known = offer is not None and _same(offer.token if hello.how == "token" else offer.code, hello.secret)
        if known and len(self.phones) >= MOST_PHONES:
            return None
        if not known:
            self._wrong += 1
            if self._wrong >= MOST_WRONG and self.offer is not None:
                self.offer, self.withdrawn = None, True
                self._changed()
            return None
        self.offer = None
        number = next(n for n in range(MOST_PHONES + 1) if n not in self._phones or not self._phones[n].connection)
        self._phones[number] = one = _Phone(number, secrets.token_urlsafe(24))
        return one

    async def _play(self, one: _Phone, connection: ServerConnection) -> None:
        one.clock, one.heard, rate = ClockFit(), time.monotonic(), Rate(time.monotonic())
        asked: dict[int, float] = {}
        asking = asyncio.create_task(self._ask(one, connection, asked))
        self._changed()
        try:
            async for message in connection:
                now = one.heard = time.monotonic()
                told = phone.read(message)
                if not rate.allows(now):
                    await connection.close(1008, "too many messages")  # not shown
                    break
                if isinstance(told, Pong):
                    if told.number in asked:
                        one.clock.add(asked.pop(told.number), now, told.at)
                elif isinstance(told, Touches):
                    touches = one.fingers.follow(told.touches)
                    if touches and one.connection is connection:
                        self._touched(one.number, touches, one.clock.ours(told.at, now))
                else:
                    raise PhoneError("greeted twice")
        except PhoneError as error:
            log.warning("a phone was sent away: %s", error)
            await connection.close(1008, "not a message of the page")  # not shown
        finally:
            asking.cancel()

    async def _ask(self, one: _Phone, connection: ServerConnection, asked: dict[int, float]) -> None:
        """Ask for the time again and again; a phone that does not answer has its fingers lifted."""
        number = 0
        with contextlib.suppress(ConnectionClosed, TimeoutError):
            while True:
                now = time.monotonic()
                silent = now - one.heard
                if silent > DEAD_SECONDS:
                    await connection.close(1001, "silent")  # not shown
                    return
                if silent > SILENT_SECONDS:
                    self._lift(one)
                number += 1
                asked[number] = now
                asked.pop(number - 40, None)
                async with asyncio.timeout(DEAD_SECONDS):
                    await connection.send(json.dumps({"ping": number}))
                await asyncio.sleep(0.03 if number < 8 else ASK_SECONDS)

    def _lift(self, one: _Phone) -> None:
        ends = one.fingers.all_up()
        if ends:
            self._touched(one.number, ends, time.monotonic())

    def _tell_all(self, message: str) -> None:
        for one in self._phones.values():
            if one.connection is not None:
                asyncio.ensure_future(_send(one.connection, message))  # noqa: RUF006


async def _send(connection: ServerConnection, message: str) -> Any:
    with contextlib.suppress(ConnectionClosed):
        await connection.send(message)


def _same(one: str, other: str) -> bool:
    """Compared in a time that tells nothing."""
    return hmac.compare_digest(one.encode(), other.encode())
