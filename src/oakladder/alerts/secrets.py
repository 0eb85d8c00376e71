"""Passwords from the system's secret service (`org.freedesktop.secrets` on D-Bus)."""

from __future__ import annotations

import logging

from jeepney import DBusAddress, new_method_call
from jeepney.io.blocking import open_dbus_connection

_log = logging.getLogger(__name__)
_SERVICE = DBusAddress("/org/freedesktop/secrets", "org.freedesktop.secrets", "org.freedesktop.Secret.Service")
#: Seconds that an answer is waited for.
_PATIENCE = 5.0


def stored_password(server: str, user: str) -> str:
    """The password that is stored with the attributes ``server`` and ``user``; empty without one, without such a service,
    or it is locked."""
    try:
        with open_dbus_connection("SESSION") as bus:

            def call(name: str, kinds: str, *values: object) -> tuple[object, ...]:
                answer = bus.send_and_get_reply(new_method_call(_SERVICE, name, kinds, values), timeout=_PATIENCE)
                if answer.header.message_type.name == "error":
                    raise OSError(str(answer.body))
                return tuple(answer.body)

            _, session = call("OpenSession", "sv", "plain", ("s", ""))
            unlocked, _ = call("SearchItems", "a{ss}", {"server": server, "user": user})
            if not isinstance(unlocked, list) or not unlocked:
                return ""
            (found,) = call("GetSecrets", "aoo", unlocked[:1], session)
            assert isinstance(found, dict)
            (_, _, secret, _) = found[unlocked[0]]
            return bytes(secret).decode("utf-8", "replace")
    except Exception as error:  # a service of any make may answer in any way
        _log.info("no password from the secret service: %s", error)
        return ""
