"""E-mail of alerts: through a server of the user's, encrypted, with the password from a safe place."""

from __future__ import annotations

import os
import smtplib
import ssl
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import formatdate
from pathlib import Path
from typing import Any

import msgspec

from oakladder.alerts.secrets import stored_password
from oakladder.alerts.store import Delivery
from oakladder.disk import read_text
from oakladder.user.workspace import Workspace

#: The environment variable that holds the password of the mail server.
PASSWORD = "OAK_MAIL_PASSWORD"
#: Seconds for each step of a conversation with the server.
_PATIENCE = 10.0
_LOOPBACK = ("localhost", "127.0.0.1", "::1")


class MailProblem(Exception):
    """Why no e-mail can be sent; the text says what to do."""


class MailServer(msgspec.Struct, frozen=True, kw_only=True):
    """The server through which e-mail goes. ``security``: ``tls`` from the first byte, ``starttls``, or ``none``, which only
    a server on this machine may have."""

    host: str = ""
    port: int = 465
    user: str = ""
    sender: str = ""
    security: str = "tls"

    @classmethod
    def configured(cls) -> MailServer:
        """The server that the user has set, in ``mail.json`` of the configuration. Raises `MailProblem`."""
        return mail_server_in(Workspace.default().config / "mail.json")


def mail_server_in(path: Path) -> MailServer:
    """The mail server that a file names. Raises `MailProblem`."""
    try:
        made = msgspec.json.decode(read_text(path), type=MailServer)
    except FileNotFoundError:
        raise MailProblem(f"No mail server is set: write it into {path}, see docs/alerts.md") from None
    except (OSError, UnicodeDecodeError, msgspec.MsgspecError) as error:
        raise MailProblem(f"{path} cannot be read: {error}") from None
    if not made.host or made.security not in ("tls", "starttls", "none"):
        raise MailProblem(f"{path} names no mail server, or a security other than tls, starttls and none")
    if made.security == "none" and made.host not in _LOOPBACK:
        raise MailProblem("mail is sent without encryption only to a server on this machine")
    return made


@dataclass(frozen=True, slots=True)
class _Words:
    subject: str
    body: str


def _words(event: dict[str, Any]) -> _Words:
    text = "".join(c for c in str(event.get("text", "")) if c.isprintable())
    alert = "".join(c for c in str(event.get("alert", "")) if c.isprintable())
    ended = event.get("event") == "gone"
    subject = f"{alert}: no longer true, {text}" if ended else f"{alert}: {text}"
    lines = [
        text,
        "",
        *(f"{name}: {event[name]}" for name in ("alert", "symbol", "timeframe", "bar", "signal", "price")),
    ]
    return _Words(subject[:200], "\n".join([*(["No longer true."] if ended else []), *lines, ""]))


def send_mail(server: MailServer, one: Delivery) -> None:
    """Sends an e-mail about a row. Raises `MailProblem`, `OSError`."""
    event = msgspec.json.decode(one.body, type=dict[str, Any])
    words, message = _words(event), EmailMessage()
    message["Subject"], message["To"] = words.subject, one.address
    message["From"] = server.sender or server.user
    message["Date"], message["Message-ID"] = formatdate(one.since), f"<{one.key.split(' ')[0]}@oak-ladder.invalid>"
    message.set_content(words.body)
    context = ssl.create_default_context()
    try:
        if server.security == "tls":
            connection: smtplib.SMTP = smtplib.SMTP_SSL(server.host, server.port, timeout=_PATIENCE, context=context)
        else:
            connection = smtplib.SMTP(server.host, server.port, timeout=_PATIENCE)
        with connection:
            if server.security == "starttls":
                connection.starttls(context=context)
            if server.user:
                connection.login(server.user, _password(server))
            connection.send_message(message)
    except smtplib.SMTPException as error:
        raise MailProblem(f"the mail server refuses: {' '.join(str(error).split())[:200]}") from None


def _password(server: MailServer) -> str:
    found = os.environ.get(PASSWORD) or stored_password(server.host, server.user)
    if not found:
        raise MailProblem(f"the password of {server.user} is neither in {PASSWORD} nor in the system's secret service")
    return found
