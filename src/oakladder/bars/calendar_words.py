"""Calendars as people write them: hours such as 09:00-15:30, and the days on which a market is closed or closes early."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from datetime import date

import numpy as np

from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar

_EPOCH = date(1970, 1, 1).toordinal()
#: Max number of closed days.
_MOST_CLOSED = 20_000


def clock(minutes: int) -> str:
    """Minutes of the day as a clock shows them."""
    return f"{minutes // 60 % 24 if minutes != 1440 else 24:02}:{minutes % 60:02}"


def hours_of(text: str) -> tuple[int, int]:
    """Hours such as ``09:00-15:30`` as the first and last minute of the day; hours that end earlier on the clock than
    they begin, as ``18:00-17:00``, begin on the evening before. Raises `DataProblem`."""
    found = re.fullmatch(r"\s*(\d{1,2}):(\d{2})\s*-\s*(\d{1,2}):(\d{2})\s*", text)
    numbers = [int(n) for n in found.groups()] if found else [99] * 4
    start, end = numbers[0] * 60 + numbers[1], numbers[2] * 60 + numbers[3]
    if numbers[1] > 59 or numbers[3] > 59 or start >= 1440 or end > 1440 or start == end:
        raise DataProblem(
            f"`{text}` are no hours. Write them as 09:00-15:30, or 18:00-17:00 for a session over midnight."
        )
    return (start if start < end else start - 1440), end


def hours_words(calendar: Calendar) -> str:
    """When a market trades, in words."""
    days = " and weekends" if calendar.weekend else ""
    if (calendar.start, calendar.end) == (0, 1440):
        return f"24-hour session{days}"
    over = " over midnight" if calendar.start < 0 else ""
    return f"{clock(calendar.start % 1440)}-{clock(calendar.end)}{over}{days}"


def with_hours(calendar: Calendar, hours: tuple[int, int], around: tuple[int, int] | None = None) -> Calendar:
    """A calendar with other regular hours, and with others around them. Raises `DataProblem` for what makes no sense.

    Hours around them that are not said are those of before, as far as they fit, else the rest of the day.
    """
    start, end = hours
    if around is None:
        early, late = min(calendar.early, start), max(calendar.late, end)
        if late - early > 1440:
            early, late = start, start + 1440
    else:
        early, late = around
        if early > start:  # they begin on the evening before
            early -= 1440
        if late < end:
            late += 1440
    made = replace(calendar, start=start, end=end, early=early, late=late)
    if not is_sound(made):
        raise DataProblem("Regular hours lie within all hours, and all hours within one day, as in 09:00-15:30.")
    return made


def is_sound(calendar: Calendar) -> bool:
    """Whether the hours of a calendar make sense."""
    c = calendar
    ordered = -1440 < c.early <= c.start < c.end <= c.late < 2880 and c.late - c.early <= 1440
    return ordered and c.end <= 1440 and all(c.start < end <= c.late for _, end in c.halves)


@dataclass(frozen=True, slots=True)
class ClosedDays:
    """The days on which a market does not trade, and those on which its session ends early (day, minute)."""

    holidays: frozenset[int] = frozenset()
    halves: frozenset[tuple[int, int]] = frozenset()

    def of(self, calendar: Calendar) -> Calendar:
        """A calendar with these closed days. Raises `DataProblem` for a session that would end before it begins."""
        made = replace(calendar, holidays=self.holidays, halves=self.halves)
        if not is_sound(made):
            raise DataProblem("A half day ends after its session begins and before it would end.")
        return made


def closed_days(text: str) -> ClosedDays:
    """Closed days, one a line: ``2026-12-25``, or ``2026-12-24 13:00`` for one that ends early; what follows ``#`` is
    a remark. Raises `DataProblem` with the line."""
    holidays: set[int] = set()
    halves: dict[int, int] = {}
    for k, line in enumerate(text.splitlines(), 1):
        words = line.partition("#")[0].replace(",", " ").split()
        if not words:
            continue
        try:
            day = date.fromisoformat(words[0]).toordinal() - _EPOCH
            found = re.fullmatch(r"(\d{1,2}):(\d{2})", words[1]) if len(words) == 2 else None
            if len(words) > 2 or (len(words) == 2 and (found is None or int(found[1]) > 24 or int(found[2]) > 59)):
                raise ValueError
        except ValueError:
            raise DataProblem(
                f"Line {k}: `{line.strip()[:40]}` is no day. Write 2026-12-25, or 2026-12-24 13:00 for a session that ends early."
            ) from None
        if found is None:
            holidays.add(day)
        else:
            halves[day] = int(found[1]) * 60 + int(found[2])
    if len(holidays) + len(halves) > _MOST_CLOSED:
        raise DataProblem(f"These are more than {_MOST_CLOSED:,} days.")
    both = holidays & set(halves)
    if both:
        raise DataProblem(f"{_day_words(min(both))} is both closed and a half day. Leave one of them.")
    return ClosedDays(frozenset(holidays), frozenset(halves.items()))


def closed_text(calendar: Calendar) -> str:
    """The closed days of a calendar, one a line, as `closed_days` reads them."""
    days = dict.fromkeys(calendar.holidays, "") | {day: f" {clock(end)}" for day, end in calendar.halves}
    return "".join(f"{_day_words(day)}{end}\n" for day, end in sorted(days.items()))


def closed_words(calendar: Calendar) -> str:
    """How many closed days are known, in words."""
    parts = [(len(calendar.holidays), "closed day"), (len(calendar.halves), "half day")]
    words = [f"{n} {what}{'s' if n != 1 else ''}" for n, what in parts if n]
    return ", ".join(words) or "none known"


def _day_words(day: int) -> str:
    return str(np.datetime64(day, "D"))
