"""What an alert told, for programs: the same object in the output of a watch, in a POST and in the log."""

from __future__ import annotations

from datetime import UTC, datetime

from oakladder.alerts.store import LogRow


def event_of(row: LogRow, event: str = "alert", *, told: float | None = None) -> dict[str, object]:
    """A row as an event: ``alert``, ``gone`` or ``missed``. ``told`` is the moment of telling, seconds since 1970."""
    return {"event": event} | plain_of(row, told=told, with_missed=False)


def plain_of(row: LogRow, *, told: float | None = None, with_missed: bool = True) -> dict[str, object]:
    """A row as plain data, times in UTC."""
    when = row.told if told is None else told
    made: dict[str, object] = {
        "id": row.id,
        "alert": row.name,
        "symbol": row.symbol,
        "timeframe": row.timeframe,
        "bar": moment_words(row.bar),
        "signal": row.signal,
        "price": row.price,
        "text": row.text,
        "told": None if when is None else moment_words(when),
    }
    return made | {"missed": row.missed} if with_missed else made


def moment_words(time: float) -> str:
    """A moment as ISO 8601 in UTC, in whole seconds."""
    return f"{datetime.fromtimestamp(int(time), UTC):%Y-%m-%dT%H:%M:%SZ}"
