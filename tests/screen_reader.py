"""What a screen reader is told: the objects that a program hands out over the accessibility bus of the desktop."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from jeepney import DBusAddress, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

_ACCESSIBLE = "org.a11y.atspi.Accessible"
#: Numbers of states in the bus's own list.
_FOCUSABLE, _FOCUSED, _SHOWING, _VISIBLE = 11, 12, 25, 30

#: These say that they have the keys as long as something in them is chosen.
_FRAMES = ("frame", "application", "page tab", "table", "tree")


@dataclass(frozen=True, slots=True)
class Heard:
    """An object as it is read out."""

    role: str
    name: str
    description: str
    states: int
    where: tuple[str, str]

    def _is(self, state: int) -> bool:
        return bool(self.states >> state & 1)

    @property
    def showing(self) -> bool:
        return self._is(_SHOWING) and self._is(_VISIBLE)

    @property
    def focusable(self) -> bool:
        return self._is(_FOCUSABLE)

    @property
    def focused(self) -> bool:
        return self._is(_FOCUSED)


class Reader:
    """Walks the objects of the only program on the bus of a session."""

    def __init__(self, session: str):
        bus = DBusAddress("/org/a11y/bus", "org.a11y.Bus", "org.a11y.Bus")
        with open_dbus_connection(session) as connection:
            (place,) = connection.send_and_get_reply(new_method_call(bus, "GetAddress")).body
        self._bus: DBusConnection = open_dbus_connection(place)

    def close(self) -> None:
        self._bus.close()

    def _call(self, where: tuple[str, str], name: str, *given: str, of: str = _ACCESSIBLE) -> tuple:  # type: ignore[type-arg]
        address = DBusAddress(where[1], where[0], of)
        return self._bus.send_and_get_reply(new_method_call(address, name, "s" * len(given) or None, given)).body

    def _property(self, where: tuple[str, str], name: str) -> str:
        return str(self._call(where, "Get", _ACCESSIBLE, name, of="org.freedesktop.DBus.Properties")[0][1])

    def _heard(self, where: tuple[str, str]) -> Heard:
        low, high = self._call(where, "GetState")[0]
        name, description = (self._property(where, n) for n in ("Name", "Description"))
        return Heard(self._call(where, "GetRoleName")[0], name, description, low | high << 32, where)

    def all(self, inside: Callable[[Heard], bool] = lambda _: True) -> Iterator[Heard]:
        """Every object that is in sight, from the window down; into what is not ``inside`` it does not go."""
        yield from self._below(("org.a11y.atspi.Registry", "/org/a11y/atspi/accessible/root"), inside)

    def _below(self, where: tuple[str, str], inside: Callable[[Heard], bool]) -> Iterator[Heard]:
        for child in self._call(where, "GetChildren")[0]:
            heard = self._heard(child)
            if heard.role == "application" or heard.showing:
                yield heard
                if inside(heard):
                    yield from self._below(child, inside)

    def await_focus(self, patience: float = 20) -> Heard:
        """The object that has the keys."""
        return self._await(lambda h: h.focused and h.role not in _FRAMES, patience)

    def _await(self, fits: Callable[[Heard], bool], patience: float) -> Heard:
        end = time.monotonic() + patience
        while time.monotonic() < end:
            found = next((h for h in self.all() if fits(h)), None)
            if found is not None:
                return found
            time.sleep(0.2)
        raise AssertionError("nothing of that kind was read out")

    def again(self, heard: Heard) -> Heard:
        """The same object as it is now."""
        return self._heard(heard.where)
