"""Desktop notifications (`org.freedesktop.Notifications` on D-Bus), with a click that opens the chart."""

from __future__ import annotations

import html
import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass

from jeepney import DBusAddress, HeaderFields, MatchRule, Message, MessageType, message_bus, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from oakladder.work import service_thread

_log = logging.getLogger(__name__)
_NAME = "org.freedesktop.Notifications"
_ADDRESS = DBusAddress("/org/freedesktop/Notifications", _NAME, _NAME)
#: Seconds that an answer is waited for; and between two looks for an end while signals are waited for.
_PATIENCE, _LOOK = 3.0, 0.5
#: The action of a click, and what its button says where a service shows one.
_CLICK, _CLICK_WORDS = "default", "Open the chart"
#: Clicks of the last so many notifications are known.
_MOST_KNOWN = 500


class NoDesktop(Exception):
    """Why no notification can be shown."""


@dataclass(frozen=True, slots=True)
class Notice:
    """Something to show: its row in the log, and its words."""

    row: str
    title: str
    text: str
    sound: bool = False


class DesktopNotices:
    """Shows notifications. ``clicked`` gets the row of one that was clicked, in a separate thread.

    Belongs to one thread, which may wait a few seconds for a service that does not answer.
    """

    def __init__(self, clicked: Callable[[str], None]):
        self._clicked = clicked
        self._bus: DBusConnection | None = None
        self._known: dict[int, str] = {}
        self._stopped = threading.Event()
        self._is_listening = False

    def show(self, notice: Notice) -> None:
        """Shows a notification. Raises `NoDesktop`."""
        hints: dict[str, tuple[str, object]] = {"category": ("s", "transfer"), "desktop-entry": ("s", "oak-ladder")}
        if notice.sound:
            hints["sound-name"] = ("s", "message-new-instant")
        # Some services read the text as markup: what is in it must not be.
        values = ("Oak Ladder", 0, "", notice.title, html.escape(notice.text), [_CLICK, _CLICK_WORDS], hints, -1)
        try:
            answer = self._connected().send_and_get_reply(
                new_method_call(_ADDRESS, "Notify", "susssasa{sv}i", values), timeout=_PATIENCE
            )
        except Exception as error:  # no bus, no service, or one that does not answer
            self._drop()
            reason = (
                "there is no session bus"
                if isinstance(error, KeyError | FileNotFoundError)
                else str(error) or "no answer"
            )
            raise NoDesktop(f"Desktop notifications cannot be shown: {reason}.") from None
        if answer.header.message_type is MessageType.error:
            raise NoDesktop(f"Desktop notifications cannot be shown: {' '.join(map(str, answer.body))[:200]}.")
        self._known[int(answer.body[0])] = notice.row
        while len(self._known) > _MOST_KNOWN:
            self._known.pop(next(iter(self._known)))

    def _connected(self) -> DBusConnection:
        if self._bus is None:
            self._bus = open_dbus_connection("SESSION")
        if not self._is_listening:
            self._is_listening = True
            service_thread("notification clicks", self._listen)
        return self._bus

    def _drop(self) -> None:
        if self._bus is not None:
            self._bus.close()
            self._bus = None

    def stop(self) -> None:
        """Shows nothing more, and hears of no more clicks."""
        self._stopped.set()
        self._drop()

    def _listen(self) -> None:
        """Hears of clicks, on a separate connection."""
        try:
            with open_dbus_connection("SESSION") as bus:
                rule = MatchRule(type="signal", interface=_NAME, member="ActionInvoked")
                bus.send_and_get_reply(message_bus.AddMatch(rule), timeout=_PATIENCE)
                while not self._stopped.is_set():
                    try:
                        self._take(bus.receive(timeout=_LOOK))
                    except TimeoutError:
                        continue
        except Exception as error:
            _log.info("clicks on notifications are not heard: %s", error)
        finally:
            self._is_listening = False

    def _take(self, message: Message) -> None:
        if message.header.fields.get(HeaderFields.member) == "ActionInvoked" and len(message.body) == 2:
            row = self._known.get(message.body[0])
            if row is not None:
                self._clicked(row)
