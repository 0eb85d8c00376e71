"""The messages of the feed protocol, version 1: one JSON object per text frame. `docs/feed.md` tells it in words."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Literal

import msgspec

VERSION = 1
#: The longest frame that is read, in bytes.
MOST_BYTES = 1_000_000
#: Seconds: how long a server waits for the first message, how long nothing may come, and the longest pause between beats.
FIRST_MESSAGE, SILENCE, BEAT = 5.0, 15.0, 5.0
#: A beat tells the market's time before a message whose time is more than so many seconds after the last one.
AHEAD = 30

#: A moment in UTC.
Moment = Annotated[datetime, msgspec.Meta(tz=True)]
Name = Annotated[str, msgspec.Meta(min_length=1, max_length=64)]


class ClientHello(msgspec.Struct, tag_field="kind", tag="hello", omit_defaults=True):
    """The first message of a client."""

    version: int
    token: str | None = None


class Want(msgspec.Struct, tag_field="kind", tag="want", omit_defaults=True):
    """What a client wants from now on, in place of what it wanted before: symbols, and of some of them every final minute
    after a time."""

    symbols: list[Name] | Literal["all"]
    since: dict[Name, Moment] = {}


class ServerHello(msgspec.Struct, tag_field="kind", tag="hello"):
    """The first message of a server."""

    version: int
    name: str
    now: Moment


class Described(msgspec.Struct, omit_defaults=True, rename={"first": "from"}):
    """A symbol of the server's. ``session`` are its regular hours, such as ``09:00-15:30``; ``first`` is the time of the first
    minute that the server still has."""

    symbol: Name
    name: str
    kind: str = "share"
    tick: float = 0.01
    zone: str = "UTC"
    session: str = ""
    first: Moment | None = None


class Symbols(msgspec.Struct, tag_field="kind", tag="symbols"):
    """The symbols that a server has."""

    symbols: list[Described]


class CaughtUp(msgspec.Struct, tag_field="kind", tag="caught-up"):
    """Everything that was asked for of a symbol, up to a minute, has been sent."""

    symbol: Name
    upto: Moment


class Bar(msgspec.Struct, tag_field="kind", tag="bar"):
    """A minute, in progress or final, stamped with its opening."""

    symbol: Name
    seq: int
    time: Moment
    open: float
    high: float
    low: float
    close: float
    volume: float
    final: bool


class Trade(msgspec.Struct, tag_field="kind", tag="trade"):
    """A single trade."""

    symbol: Name
    seq: int
    time: Moment
    price: float
    size: float


class Beat(msgspec.Struct, tag_field="kind", tag="beat"):
    """The market's time."""

    now: Moment


class Trouble(msgspec.Struct, tag_field="kind", tag="trouble"):
    """Something that a server has to say."""

    code: str
    text: str


FromClient = ClientHello | Want
FromServer = ServerHello | Symbols | CaughtUp | Bar | Trade | Beat | Trouble
_FROM_CLIENT, _FROM_SERVER = msgspec.json.Decoder(FromClient), msgspec.json.Decoder(FromServer)
_ENCODER = msgspec.json.Encoder()
_KNOWN = {
    side: {kind.__struct_config__.tag for kind in kinds}
    for side, kinds in (
        ("client", (ClientHello, Want)),
        ("server", (ServerHello, Symbols, CaughtUp, Bar, Trade, Beat, Trouble)),
    )
}


class NotUnderstood(Exception):
    """A frame that holds no message of the protocol; says what is wrong, as the end of a sentence. ``unknown`` is the kind of
    a message that a later version may know, ``symbol`` and ``seq`` what could be read of a message about a symbol."""

    def __init__(self, why: str, unknown: str = "", symbol: str = "", seq: int = 0):
        super().__init__(why)
        self.unknown, self.symbol, self.seq = unknown, symbol, seq


class _Head(msgspec.Struct):
    """What can be read of a message whose other parts make no sense."""

    kind: object = None
    symbol: object = None
    seq: object = None


_HEAD = msgspec.json.Decoder(_Head)


def encoded(message: FromClient | FromServer) -> str:
    """A message as the text of a frame."""
    return _ENCODER.encode(message).decode()


def from_server(frame: str | bytes) -> FromServer:
    """The message of a server in a frame. Raises `NotUnderstood`."""
    return _decoded(frame, _FROM_SERVER, "server")


def from_client(frame: str | bytes) -> FromClient:
    """The message of a client in a frame. Raises `NotUnderstood`."""
    return _decoded(frame, _FROM_CLIENT, "client")


def _decoded(frame: str | bytes, decoder: msgspec.json.Decoder, side: str):  # type: ignore[no-untyped-def, type-arg]
    if isinstance(frame, bytes):
        raise NotUnderstood("it is a binary frame, and messages are text")
    if len(frame) > MOST_BYTES:
        raise NotUnderstood(f"it is longer than {MOST_BYTES:,} bytes")
    try:
        return decoder.decode(frame)
    except (msgspec.MsgspecError, UnicodeError, RecursionError) as error:
        raise _why(frame, str(error), side) from None


def _why(frame: str, error: str, side: str) -> NotUnderstood:
    """What is wrong with a frame."""
    try:
        head = _HEAD.decode(frame)
    except (msgspec.MsgspecError, UnicodeError, RecursionError):
        return NotUnderstood("it is no JSON object")
    if not isinstance(head.kind, str):
        return NotUnderstood("it has no kind")
    if head.kind not in _KNOWN[side]:
        return NotUnderstood("its kind is not known", unknown=head.kind[:40])
    symbol = head.symbol if isinstance(head.symbol, str) and len(head.symbol) <= 64 else ""
    seq = head.seq if isinstance(head.seq, int) and not isinstance(head.seq, bool) else 0
    return NotUnderstood(f"its {head.kind} makes no sense: {error}", symbol=symbol, seq=seq)


def seconds(moment: datetime) -> int:
    """A moment in whole seconds since 1970."""
    return int(moment.timestamp())


def moment(time: float) -> datetime:
    """Seconds since 1970 as a moment."""
    return datetime.fromtimestamp(int(time), UTC)
