"""Sends what alerts told outside the program: POST and e-mail, again after a failure or a kill, for a day at most.

Deliveries are kept with their rows (see `store`), so that they outlive the program. Each address has a
few attempts in flight: one that answers slowly or never holds up no other.
"""

from __future__ import annotations

import asyncio
import logging
import random
import ssl
import threading
import time
from collections import Counter
from collections.abc import Callable
from urllib.parse import urlsplit

import msgspec

from oakladder.alerts.alert import Alert
from oakladder.alerts.events import event_of
from oakladder.alerts.mail import MailProblem, MailServer, send_mail
from oakladder.alerts.store import AlertStore, Delivery, LogRow
from oakladder.work import WorkQueue, service_thread

_log = logging.getLogger(__name__)
#: Seconds that an answer is waited for, after which a failed one is tried again (doubled each time), the longest such pause,
#: and after which it is given up.
ANSWER, FIRST_PAUSE, LONGEST_PAUSE, GIVE_UP = 10.0, 10.0, 3600.0, 86_400.0
#: Attempts at one address at a time, and seconds between two looks for new ones.
_AT_ONCE, _LOOK = 4, 1.0
#: An answer's first line is no longer than this.
_MOST_LINE = 4096
POST, MAIL = "post", "mail"


def deliveries_of(alert: Alert, row: LogRow, now: float, *, gone: bool = False) -> list[Delivery]:
    """The deliveries of a row, or of its being no longer true."""
    event = event_of(row, "gone" if gone else "alert", told=now)
    key = f"{row.id}-gone" if gone else row.id
    made = []
    if alert.post:
        made.append(Delivery(f"{key} {POST}", row.id, POST, alert.post, msgspec.json.encode(event), now, next=now))
    if alert.mail:
        made.append(Delivery(f"{key} {MAIL}", row.id, MAIL, alert.mail, msgspec.json.encode(event), now, next=now))
    return made


class Sender:
    """Sends what waits in a store, in a separate thread, until it is stopped. ``told`` gets a sentence where something is
    given up, ``mail_server`` says through which server e-mail goes."""

    def __init__(
        self,
        store: AlertStore,
        told: Callable[[str], None],
        mail_server: Callable[[], MailServer] = MailServer.configured,
    ):
        self._store, self._told, self._mail_server = store, told, mail_server
        self._wake: asyncio.Event | None = None
        self._loop: asyncio.AbstractEventLoop | None = None
        self._is_ending = threading.Event()
        self._thread: threading.Thread | None = None
        self._mails = WorkQueue("e-mail of alerts", 2)
        self._flying: dict[str, asyncio.Task[None]] = {}
        self._said: set[str] = set()

    def start(self) -> None:
        """Begins to send."""
        self._thread = service_thread("alert deliveries", lambda: asyncio.run(self._run()))

    def look(self) -> None:
        """There may be something new to send; from any thread."""
        if self._loop is not None and self._wake is not None and not self._is_ending.is_set():
            self._loop.call_soon_threadsafe(self._wake.set)

    def stop(self, patience: float = 3.0) -> None:
        """Ends soon; what is under way has so many seconds. What was not sent is sent next time."""
        self._is_ending.set()
        if self._loop is not None and self._wake is not None:
            try:
                self._loop.call_soon_threadsafe(self._wake.set)
            except RuntimeError:
                return
        if self._thread is not None:
            self._thread.join(patience)
        self._mails.close()

    async def _run(self) -> None:
        self._loop, self._wake = asyncio.get_running_loop(), asyncio.Event()
        while not self._is_ending.is_set():
            try:
                self._begin_due()
            except Exception:  # a busy or damaged file must not end it
                _log.exception("deliveries could not be looked up")
            try:
                async with asyncio.timeout(_LOOK):
                    await self._wake.wait()
            except TimeoutError:
                pass
            self._wake.clear()
        if self._flying:
            await asyncio.wait(self._flying.values(), timeout=2.0)
            for task in self._flying.values():
                task.cancel()

    def _begin_due(self) -> None:
        now = time.time()
        at = Counter(key.split(" ", 1)[1] for key in self._flying)
        for one in self._store.waiting():
            flight = f"{one.key} {one.address}"
            place = flight.split(" ", 1)[1]
            if now - one.since > GIVE_UP:
                self._give_up(one)
            elif one.next <= now and flight not in self._flying and at[place] < _AT_ONCE:
                at[place] += 1
                self._flying[flight] = asyncio.ensure_future(self._attempt(one, flight))

    def _give_up(self, one: Delivery) -> None:
        what = "An e-mail" if one.kind == MAIL else "A message"
        sentence = f"{what} to {one.address} could not be delivered within a day and was given up."
        self._store.give_up(one.key, sentence)
        self._told(sentence)

    async def _attempt(self, one: Delivery, flight: str) -> None:
        try:
            if one.kind == MAIL:
                await asyncio.wrap_future(self._mails.submit(lambda: send_mail(self._mail_server(), one)))
            else:
                async with asyncio.timeout(ANSWER):
                    await post(one.address, one.body, one.key.split(" ")[0])
            self._store.sent(one.key, time.time())
        except (OSError, TimeoutError, ValueError, ssl.SSLError, MailProblem, asyncio.IncompleteReadError) as error:
            pause = min(FIRST_PAUSE * 2**one.tries, LONGEST_PAUSE) * random.uniform(0.8, 1.2)
            self._store.not_sent(one.key, time.time() + pause)
            self._say_failed(one, error)
        except Exception:
            _log.exception("a delivery failed")
            self._store.not_sent(one.key, time.time() + LONGEST_PAUSE)
        finally:
            self._flying.pop(flight, None)
            if self._wake is not None:
                self._wake.set()

    def _say_failed(self, one: Delivery, error: Exception) -> None:
        """The first failure at an address is said, the others are in the log."""
        reason = (
            f"no answer within {ANSWER:.0f} s"
            if isinstance(error, TimeoutError)
            else str(error) or type(error).__name__
        )
        _log.info("delivery %s to %s failed: %s", one.key, one.address, reason)
        sentence = f"{one.address} could not be reached ({reason}). It is tried again for a day."
        if one.address not in self._said:
            self._said.add(one.address)
            self._told(sentence)


async def post(address: str, body: bytes, key: str) -> None:
    """Sends a body of JSON by HTTP POST. No redirect is followed. Raises `OSError` for what does not answer with success."""
    parts = urlsplit(address)
    secure = parts.scheme == "https"
    host, port = parts.hostname or "", parts.port or (443 if secure else 80)
    reader, writer = await asyncio.open_connection(
        host, port, ssl=ssl.create_default_context() if secure else None, limit=_MOST_LINE
    )
    try:
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        shown = f"[{host}]" if ":" in host else host
        default = port == (443 if secure else 80)
        head = [
            f"POST {path} HTTP/1.1",
            f"Host: {shown if default else f'{shown}:{port}'}",
            "User-Agent: oak-ladder",
            "Content-Type: application/json",
            f"Content-Length: {len(body)}",
            f"Idempotency-Key: {key}",
            "Connection: close",
        ]
        writer.write("\r\n".join([*head, "", ""]).encode("ascii", "backslashreplace") + body)
        await writer.drain()
        line = (await reader.readline()).decode("latin-1").strip()
        words = line.split(" ", 2)
        if len(words) < 2 or not words[0].startswith("HTTP/") or not words[1].isdigit():
            raise OSError("what answers does not speak HTTP")
        if not 200 <= int(words[1]) < 300:
            raise OSError(f"it answered {words[1]}")
    finally:
        writer.close()
