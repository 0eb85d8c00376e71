"""Times of a file as UTC seconds: the forms in which they are written, each read strictly."""

from __future__ import annotations

import re
from functools import lru_cache

import numpy as np
import pyarrow as pa

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.files import EARLIEST, LATEST
from oakladder.bars.timeframes import ONE_DAY, BarUnit, Timeframe
from oakladder.bars.zones import DAY, is_zone, zone_of
from oakladder.intake import arrow_compute as pc

#: Forms of times, tried in this order; the empty one is ISO 8601.
TIME_FORMS = (
    "",
    "%Y-%m-%d %H:%M:%S",
    "%Y-%m-%d %H:%M",
    "%Y-%m-%d",
    "%Y/%m/%d %H:%M:%S",
    "%Y/%m/%d %H:%M",
    "%Y/%m/%d",
    "%Y.%m.%d %H:%M:%S",
    "%Y.%m.%d %H:%M",
    "%Y.%m.%d",
    "%d.%m.%Y %H:%M:%S",
    "%d.%m.%Y %H:%M",
    "%d.%m.%Y",
    "%d/%m/%Y %H:%M:%S",
    "%d/%m/%Y %H:%M",
    "%d/%m/%Y",
    "%m/%d/%Y %H:%M:%S",
    "%m/%d/%Y %H:%M",
    "%m/%d/%Y",
    "%d-%b-%Y",
    "%d %b %Y",
    "%b %d, %Y",
    "%Y%m%d %H%M%S",
    "%Y%m%d %H%M",
    "%Y%m%d %H:%M:%S",
    "%Y%m%d %H:%M",
    "%Y%m%d",
    "seconds",
    "milliseconds",
)
_ISO = (
    r"^(?P<Y>\d{4})-(?P<m>\d{2})-(?P<d>\d{2})"
    r"(?:[T ](?P<H>\d{2}):(?P<M>\d{2})(?::(?P<S>\d{2})(?:[.,]\d+)?)?(?P<Z>Z|[+-]\d{2}(?::?\d{2})?)?)?$"
)
_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_PIECES = {"Y": r"(?P<Y>\d{4})", "b": r"(?P<b>[A-Za-z]{3})[a-z]*\.?"}
#: Seconds from which on a number may be a time: earlier it is more likely a date without signs, or no time at all.
_LEAST = 100_000_000


@lru_cache(maxsize=len(TIME_FORMS) + 8)
def _pattern(form: str) -> str:
    """A form as a pattern; where numbers stand side by side they have two digits."""
    if not form:
        return _ISO
    tight = re.search(r"%[A-Za-z]%", form) is not None
    made = []
    for part in re.split(r"(%[YmdbHMS])", form):
        if not part.startswith("%"):
            made.append(re.escape(part).replace(r"\ ", " +"))
        elif part[1] in _PIECES:
            made.append(_PIECES[part[1]])
        else:
            digits = r"\d{2}" if tight or part[1] in "MS" else r"\d{1,2}"
            made.append(f"(?P<{part[1]}>{digits})")
    return f"^{''.join(made)}$"


def may_fit(texts: list[str], form: str) -> bool:
    """Whether any of some texts matches a form."""
    pattern = r"\s*\d+(\.\d*)?\s*$" if form in ("seconds", "milliseconds") else _pattern(form)
    return any(re.match(pattern, text.strip()) is not None for text in texts)


def parse_times(texts: pa.Array | list[str], form: str, zone: str = "UTC") -> tuple[np.ndarray, np.ndarray]:
    """Texts as UTC seconds by a form of `TIME_FORMS`, and which of them fit it; the others are 0.

    Times that name no zone are ``zone``'s. Days that no calendar has and years out of reach do not fit. Raises
    `DataProblem` for an unknown zone.

    Shape (texts,): int64, and bool.
    """
    cells = pa.array(texts, pa.string()) if isinstance(texts, list) else texts
    cells = pc.utf8_trim_whitespace(cells.fill_null(""))
    if form in ("seconds", "milliseconds"):
        return _counted(cells, 1000 if form == "milliseconds" else 1)
    found = pc.extract_regex(cells, _pattern(form))
    good = np.array(found.is_valid())
    parts = {f.name: found.field(k) for k, f in enumerate(found.type)} if len(found) else {}
    count = len(cells)

    def number(name: str, otherwise: int) -> np.ndarray:
        if name not in parts:
            return np.full(count, otherwise, dtype=np.int64)
        texts = parts[name]
        filled = pc.if_else(pc.equal(texts.fill_null(""), ""), str(otherwise), texts.fill_null(str(otherwise)))
        return np.asarray(filled.cast(pa.int64()).to_numpy(zero_copy_only=False), dtype=np.int64)

    year, month, day = number("Y", 0), number("m", 1), number("d", 1)
    if "b" in parts:
        names = pc.utf8_lower(parts["b"].fill_null(""))
        month = np.asarray(pc.index_in(names, value_set=pa.array(_MONTHS)).fill_null(-1)) + 1
    hour, minute, second = number("H", 0), number("M", 0), number("S", 0)
    good &= (year >= 1800) & (year < 2200) & (month >= 1) & (month <= 12) & (day >= 1)
    good &= (hour < 24) & (minute < 60) & (second < 60)
    months = np.where(good, (year - 1970) * 12 + month - 1, 0)
    first = months.astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    following = (months + 1).astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    good &= day <= following - first
    seconds = (first + day - 1) * DAY + hour * 3600 + minute * 60 + second
    seconds = np.where(good, seconds, 0)
    return _in_zone(seconds, parts.get("Z"), zone, good), good


def _in_zone(seconds: np.ndarray, said: pa.Array | None, zone: str, good: np.ndarray) -> np.ndarray:
    """Clock times in UTC: by the zone that each says itself, else by ``zone``."""
    if said is None:
        return np.where(good, to_utc(seconds, zone), 0)
    words = said.fill_null("")
    named = np.asarray(pc.not_equal(words, "").to_numpy(zero_copy_only=False), dtype=bool)
    offsets = np.zeros(len(seconds), dtype=np.int64)
    for word in pc.unique(words).to_pylist():
        if word and word != "Z":
            digits = word[1:].replace(":", "").ljust(4, "0")
            shift = (int(digits[:2]) * 60 + int(digits[2:])) * 60
            offsets[np.asarray(pc.equal(words, word))] = -shift if word[0] == "+" else shift
    return np.where(good, np.where(named, seconds + offsets, to_utc(seconds, zone)), 0)


def _counted(cells: pa.Array, per_second: int) -> tuple[np.ndarray, np.ndarray]:
    """Seconds or milliseconds since 1970: counted milliseconds must not pass for seconds, nor a date for either."""
    plain = pc.match_substring_regex(cells, r"^\d{1,18}(\.\d*)?$")
    kept = pc.if_else(plain, pc.replace_substring_regex(cells, r"\..*$", ""), "0")
    whole = np.asarray(kept.cast(pa.int64()).to_numpy(zero_copy_only=False), dtype=np.int64) // per_second
    good = (whole > _LEAST) & (whole < LATEST)
    return np.where(good, whole, 0), good


def stamped_times(column: pa.Array, zone: str) -> tuple[np.ndarray, np.ndarray]:
    """A column of timestamps or dates in UTC seconds, and which of them are in reach. Shape (rows,): int64, and bool."""
    named = pa.types.is_timestamp(column.type) and column.type.tz is not None
    plain = column.cast(pa.timestamp("s", "UTC" if named else None), safe=False)
    good = ~np.array(plain.is_null())
    seconds = np.asarray(plain.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False), dtype=np.int64)
    good &= (seconds >= EARLIEST) & (seconds < LATEST)
    seconds = np.where(good, seconds, 0)
    return (seconds if named else np.where(good, to_utc(seconds, zone), 0)), good


def to_utc(local: np.ndarray, zone: str) -> np.ndarray:
    """Clock times of a zone, as seconds since 1970, in UTC. Raises `DataProblem` for an unknown zone. Int64, shape as
    ``local``."""
    if zone == "UTC":
        return local
    if not is_zone(zone):
        raise DataProblem(f"`{zone}` is no time zone. Write UTC or a name such as WET.")
    return zone_of(zone).utc(local)


def timeframe_of(times: np.ndarray) -> Timeframe:
    """The timeframe of bars (UTC seconds, rising) by the commonest distance between them; days where there is one bar.
    Shape (bars,), int64."""
    if len(times) < 2:
        return ONE_DAY
    steps, counts = np.unique(np.diff(times), return_counts=True)
    step = int(steps[counts.argmax()])
    if step >= 20 * 3600:
        return ONE_DAY if step < 6 * DAY else Timeframe(BarUnit.WEEK) if step < 26 * DAY else Timeframe(BarUnit.MONTH)
    return Timeframe(BarUnit.MINUTES, max(step // 60, 1))
