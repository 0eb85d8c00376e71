"""What is told outside the program: real servers of HTTP and mail, a session bus with a service for notifications."""

from __future__ import annotations

import json
import shutil
import socket
import ssl
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from email import message_from_bytes
from email.message import Message
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult
from jeepney import DBusAddress as Address
from jeepney import HeaderFields, MessageType, message_bus, new_method_return, new_signal
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from oakladder.alerts import delivery
from oakladder.alerts.alert import Alert, ScriptCopy, of_signal
from oakladder.alerts.delivery import Sender, deliveries_of
from oakladder.alerts.desktop import DesktopNotices, NoDesktop, Notice
from oakladder.alerts.mail import MailProblem, MailServer, mail_server_in
from oakladder.alerts.secrets import stored_password
from oakladder.alerts.store import AlertStore, JudgedUntil, LogRow, new_id
from oakladder.bars.timeframes import ONE_DAY
from oakladder.work import service_thread


def until(what: Callable[[], bool], seconds: float = 15.0) -> None:
    end = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < end, "it did not come to pass"
        time.sleep(0.02)


@dataclass
class Hook:
    """An HTTP server that answers as it is told."""

    answers: list[int] = field(default_factory=list)
    slow: float = 0.0
    got: list[tuple[str, dict[str, Any]]] = field(default_factory=list)
    url: str = ""

    @contextmanager
    def open(self) -> Iterator[Hook]:
        hook = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                time.sleep(hook.slow)
                code = hook.answers.pop(0) if hook.answers else 204
                hook.got.append((self.headers["Idempotency-Key"], json.loads(body)))
                self.send_response(code)
                self.send_header("Location", "/elsewhere")
                self.end_headers()

            def log_message(self, *_: object) -> None:
                pass

        server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        service_thread("test hook", server.serve_forever)
        self.url = f"http://127.0.0.1:{server.server_address[1]}/hook?a=1"
        yield self
        server.shutdown()
        server.server_close()


@pytest.fixture
def store(tmp_path: Path) -> AlertStore:
    return AlertStore(tmp_path / "alerts.sqlite")


@pytest.fixture
def hasty(monkeypatch: pytest.MonkeyPatch) -> None:
    """Pauses that a test need not wait for."""
    for name, value in (("FIRST_PAUSE", 0.05), ("_LOOK", 0.05), ("ANSWER", 4.0)):
        monkeypatch.setattr(delivery, name, value)


def put(store: AlertStore, *, bar: int = 60, **others: object) -> LogRow:
    """A row of a new alert that is to be sent."""
    made: Alert = of_signal(
        new_id(), f"alert {bar} {new_id()[:8]}", ScriptCopy("x.rung", "rung 1\nsignal go = close > open"), "go", ONE_DAY, list_name="All symbols", **others
    )  # fmt: skip
    store.add(made, JudgedUntil(0))
    row = LogRow(
        new_id(), made.id, made.name, "KELP", "1d", bar, "go", 12.5, "go on KELP 1d, 12.50", written=time.time()
    )
    store.write([row], {}, deliveries_of(made, row, time.time()))
    return row


@contextmanager
def sending(store: AlertStore, server: MailServer | None = None) -> Iterator[list[str]]:
    said: list[str] = []

    def configured() -> MailServer:
        if server is None:
            raise MailProblem("no mail server is set")
        return server

    sender = Sender(store, said.append, configured)
    sender.start()
    yield said
    sender.stop()


def test_a_row_is_posted_once_with_its_id(store: AlertStore, hasty: None) -> None:
    with Hook().open() as hook, sending(store):
        row = put(store, post=hook.url)
        until(lambda: not store.waiting())
        time.sleep(0.3)
    assert [key for key, _ in hook.got] == [row.id]
    body = hook.got[0][1]
    assert set(body) == {"event", "id", "alert", "symbol", "timeframe", "bar", "signal", "price", "text", "told"}
    assert (body["event"], body["symbol"], body["bar"], body["price"]) == (
        "alert",
        "KELP",
        "1970-01-01T00:01:00Z",
        12.5,
    )


def test_what_fails_is_tried_again_with_the_same_id_and_redirects_are_not_followed(
    store: AlertStore, hasty: None
) -> None:
    with Hook([500, 302, 404, 200]).open() as hook, sending(store) as said:
        row = put(store, post=hook.url)
        until(lambda: not store.waiting())
    assert [key for key, _ in hook.got] == [row.id] * 4
    assert len(said) == 1 and "500" in said[0] and hook.url in said[0]


def test_what_was_not_sent_when_the_program_ended_is_sent_by_the_next(store: AlertStore, hasty: None) -> None:
    with Hook([503] * 400).open() as hook:
        with sending(store):
            row = put(store, post=hook.url)
            until(lambda: len(hook.got) > 2)
        hook.answers.clear()
        before = len(hook.got)
        with sending(AlertStore(store.path)):
            until(lambda: not store.waiting())
        assert [key for key, _ in hook.got][before:] == [row.id]


def test_an_address_that_never_answers_holds_up_no_other(store: AlertStore, hasty: None) -> None:
    with Hook(slow=60).open() as dead, Hook().open() as alive, sending(store):
        for k in range(30):
            put(store, bar=60 * k, post=dead.url)
        begun = time.monotonic()
        put(store, post=alive.url)
        until(lambda: bool(alive.got))
        until(lambda: len(store.waiting()) == 30)
        assert time.monotonic() - begun < 5


def test_after_a_day_it_is_given_up_with_a_sentence(
    store: AlertStore, hasty: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(delivery, "GIVE_UP", 0.3)
    with sending(store) as said:
        row = put(store, post="http://127.0.0.1:9/gone")
        until(lambda: not store.waiting())
    assert said[-1].endswith("could not be delivered within a day and was given up.")
    assert [r for r, _ in store.given_up()] == [row.id]


def test_no_longer_true_has_an_id_of_its_own(store: AlertStore, hasty: None) -> None:
    with Hook().open() as hook, sending(store):
        row = put(store, post=hook.url)
        alert = store.named(row.name)
        for _ in range(2):
            store.tell_gone({row.id: time.time()}, deliveries_of(alert, row, time.time(), gone=True))
        until(lambda: not store.waiting())
        time.sleep(0.2)
    assert sorted(key for key, _ in hook.got) == sorted([row.id, f"{row.id}-gone"])
    assert {body["event"] for _, body in hook.got} == {"alert", "gone"}


# --- e-mail -------------------------------------------------------------------------------------------


@dataclass
class Inbox:
    """What a mail server took in."""

    got: list[tuple[list[str], Message]] = field(default_factory=list)
    refuses: int = 0

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        if self.refuses:
            self.refuses -= 1
            return "451 later"
        self.got.append((envelope.rcpt_tos, message_from_bytes(envelope.content)))
        return "250 OK"


@pytest.fixture
def certificate(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> tuple[Path, Path]:
    """A certificate for this machine that the program trusts."""
    if shutil.which("openssl") is None:
        pytest.skip("openssl is missing")
    key, made = tmp_path / "key.pem", tmp_path / "cert.pem"
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", key, "-out", made, "-days", "2", "-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost,IP:127.0.0.1"],
        check=True, capture_output=True,
    )  # fmt: skip
    monkeypatch.setenv("SSL_CERT_FILE", str(made))
    return key, made


def test_a_row_is_mailed_encrypted_with_the_password_of_the_environment(
    store: AlertStore, hasty: None, certificate: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("OAK_MAIL_PASSWORD", "sesame")
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(certificate[1], certificate[0])

    def known(server: Any, session: Any, envelope: Any, mechanism: str, data: Any) -> AuthResult:
        return AuthResult(success=(data.login, data.password) == (b"me", b"sesame"))

    inbox = Inbox(refuses=1)
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    controller = Controller(
        inbox, "127.0.0.1", port, ssl_context=context, authenticator=known, auth_required=True, auth_require_tls=False
    )
    controller.start()
    try:
        with sending(store, MailServer(host="localhost", port=port, user="me", sender="oak@example.org")):
            row = put(store, mail="trader@example.org")
            until(lambda: not store.waiting())
    finally:
        controller.stop()
    ((to, message),) = inbox.got
    assert to == ["trader@example.org"] and message["From"] == "oak@example.org" and row.name in message["Subject"]
    assert "go on KELP 1d, 12.50" in str(message.get_payload()) and row.id in message["Message-ID"]


def test_a_mail_server_that_is_wrong_gets_a_sentence(tmp_path: Path) -> None:
    path = tmp_path / "mail.json"
    for text, words in (
        (None, "No mail server is set"),
        ("{", "cannot be read"),
        ("{}", "names no mail server"),
        ('{"host": "mail.example.org", "security": "none"}', "without encryption"),
    ):
        if text is not None:
            path.write_text(text)
        with pytest.raises(MailProblem, match=words):
            mail_server_in(path)
    path.write_text('{"host": "mail.example.org", "user": "me"}')
    assert mail_server_in(path).port == 465


# --- the desktop ----------------------------------------------------------------------------------------


@pytest.fixture
def session_bus(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    if shutil.which("dbus-daemon") is None:
        pytest.skip("dbus-daemon is missing")
    with subprocess.Popen(
        ["dbus-daemon", "--session", "--print-address", "--nofork"], stdout=subprocess.PIPE, text=True
    ) as daemon:
        assert daemon.stdout is not None
        monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", daemon.stdout.readline().strip())
        yield
        daemon.kill()


class Service:
    """A service on the session bus."""

    name = ""

    def __init__(self) -> None:
        self.ready, self.stopped = threading.Event(), threading.Event()

    def run(self) -> None:
        with open_dbus_connection("SESSION") as bus:
            bus.send_and_get_reply(message_bus.RequestName(self.name))
            self.ready.set()
            while not self.stopped.is_set():
                try:
                    message = bus.receive(timeout=0.1)
                except TimeoutError:
                    continue
                except ConnectionResetError:
                    return
                if message.header.message_type is MessageType.method_call:
                    self.answer(bus, message)

    def answer(self, bus: DBusConnection, message: Any) -> None:
        raise NotImplementedError

    @contextmanager
    def open(self) -> Iterator[None]:
        service_thread("test service", self.run)
        assert self.ready.wait(5)
        yield
        self.stopped.set()


class Notifications(Service):
    """A service for notifications that clicks on each it shows."""

    name = "org.freedesktop.Notifications"

    def __init__(self) -> None:
        super().__init__()
        self.shown: list[tuple[Any, ...]] = []

    def answer(self, bus: DBusConnection, message: Any) -> None:
        self.shown.append(message.body)
        bus.send(new_method_return(message, "u", (len(self.shown),)))
        time.sleep(0.1)
        place = Address("/org/freedesktop/Notifications", interface=self.name)
        bus.send(new_signal(place, "ActionInvoked", "us", (len(self.shown), "default")))


class Secrets(Service):
    """A secret service that has one password."""

    name = "org.freedesktop.secrets"

    def answer(self, bus: DBusConnection, message: Any) -> None:
        bus.send(new_method_return(message, *self._words(message)))

    @staticmethod
    def _words(message: Any) -> tuple[str, tuple[Any, ...]]:
        match message.header.fields[HeaderFields.member]:
            case "OpenSession":
                return "vo", (("s", ""), "/session")
            case "SearchItems":
                known = message.body[0] == {"server": "mail.example.org", "user": "me"}
                return "aoao", ((["/item"] if known else []), [])
        return "a{o(oayays)}", ({"/item": ("/session", b"", b"sesame", "text/plain")},)


def test_a_notification_is_shown_and_its_click_is_heard(session_bus: None) -> None:
    service, clicked = Notifications(), []
    with service.open():
        notices = DesktopNotices(clicked.append)
        notices.show(Notice("row-0", "warming up", "x"))
        time.sleep(0.5)
        notices.show(Notice("row-1", "Kelp & salt", "<b>go</b> on KELP 1d, 12.50", sound=True))
        until(lambda: "row-1" in clicked)
        notices.stop()
    title, text, actions, hints = service.shown[-1][3:7]
    assert title == "Kelp & salt" and text == "&lt;b&gt;go&lt;/b&gt; on KELP 1d, 12.50"
    assert actions == ["default", "Open the chart"] and "sound-name" in hints


def test_a_password_comes_from_the_secret_service(session_bus: None) -> None:
    assert stored_password("mail.example.org", "me") == ""  # there is no such service yet
    with Secrets().open():
        assert stored_password("mail.example.org", "me") == "sesame"
        assert stored_password("mail.example.org", "someone") == ""


@pytest.mark.parametrize("bus", ["none", "nobody"])
def test_where_nothing_shows_notifications_it_is_said(
    bus: str, monkeypatch: pytest.MonkeyPatch, request: pytest.FixtureRequest
) -> None:
    if bus == "none":
        monkeypatch.delenv("DBUS_SESSION_BUS_ADDRESS", raising=False)
    else:
        request.getfixturevalue("session_bus")
    with pytest.raises(NoDesktop, match="cannot be shown"):
        DesktopNotices(lambda _: None).show(Notice("row", "title", "text"))
