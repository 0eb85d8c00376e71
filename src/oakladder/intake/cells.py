"""Cells of a file as numbers: unambiguous ones are read, everything else is reported and never guessed at."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from oakladder.bars.errors import DataProblem
from oakladder.intake import arrow_compute as pc

#: What stands for no value.
_MISSING = r"(?i)^(|-+|–|\.|n/?a|#n/a|nan|null|none|nil)$"
_BODY = r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d{1,3})?"
_PLAIN = f"^{_BODY}$"
_SCALED = f"^{_BODY} ?[KkMmBb]$"
#: Groups of three digits, parted by what is not the sign before the decimals.
_GROUPED = r"^[+-]?\d{1,3}([, '’  ]\d{3})+(\.\d*)?$"
_PARTING = r"[, '’  ]"
_SCALES = {"K": 1e3, "M": 1e6, "B": 1e9}


@dataclass(slots=True)
class Numbers:
    """A column as float64 with NaN for cells without a number, and why: empty, not a number, one with a letter."""

    values: np.ndarray
    missing: np.ndarray
    unreadable: np.ndarray
    #: Read as thousands, millions or milliards, as the letter behind the number says.
    scaled: np.ndarray

    @classmethod
    def none(cls, count: int) -> Numbers:
        """A column that is not there."""
        no = np.zeros(count, dtype=bool)
        return cls(np.full(count, np.nan), no, no.copy(), no.copy())


def numbers(column: pa.Array, decimal: str) -> Numbers:
    """Reads a column of texts or numbers; ``decimal`` is the sign before the decimals of texts.

    Raises `DataProblem` for a column of another kind.
    """
    if not (pa.types.is_string(column.type) or pa.types.is_primitive(column.type)) or pa.types.is_temporal(column.type):
        raise DataProblem(f"a column of prices or volumes holds values of the kind {column.type}, and no number.")
    if pa.types.is_floating(column.type) or pa.types.is_integer(column.type) or pa.types.is_decimal(column.type):
        return _of_numbers(column)
    return _of_texts(column, decimal)


def _of_numbers(column: pa.Array) -> Numbers:
    missing = np.asarray(column.is_null(nan_is_null=True))
    values = np.asarray(column.cast(pa.float64(), safe=False).to_numpy(zero_copy_only=False), dtype=np.float64)
    unreadable = np.isinf(values)
    values = np.where(unreadable, np.nan, values)
    return Numbers(values, missing, unreadable, np.zeros(len(values), dtype=bool))


def _of_texts(column: pa.Array, decimal: str) -> Numbers:
    texts = pc.utf8_trim_whitespace(column.fill_null(""))
    if decimal == ",":  # from here on as if the sign were a point: what parted thousands becomes a comma
        texts = pc.replace_substring(pc.replace_substring(pc.replace_substring(texts, ".", "\0"), ",", "."), "\0", ",")
    plain = _matches(texts, _PLAIN)
    values = _cast(texts, plain)
    rest = ~plain
    missing = np.zeros(len(values), dtype=bool)
    scaled = missing.copy()
    if rest.any():
        missing = rest & _matches(texts, _MISSING)
        grouped = rest & _matches(texts, _GROUPED)
        if grouped.any():
            values = np.where(grouped, _cast(pc.replace_substring_regex(texts, _PARTING, ""), grouped), values)
        scaled = rest & _matches(texts, _SCALED)
        for k in np.flatnonzero(scaled).tolist():
            text = texts[k].as_py()
            values[k] = float(text[:-1]) * _SCALES[text[-1].upper()]
    unreadable = ~np.isfinite(values) & ~missing
    values[unreadable] = np.nan
    return Numbers(values, missing, unreadable, scaled & ~unreadable)


def _matches(texts: pa.Array, pattern: str) -> np.ndarray:
    return np.array(pc.match_substring_regex(texts, pattern).to_numpy(zero_copy_only=False), dtype=bool)


def _cast(texts: pa.Array, there: np.ndarray) -> np.ndarray:
    """Texts as float64 where they are numbers, NaN elsewhere."""
    kept = pc.if_else(pa.array(there), pc.replace_substring_regex(texts, r"^\+", ""), pa.scalar(None, pa.string()))
    return np.array(kept.cast(pa.float64()).to_numpy(zero_copy_only=False), dtype=np.float64)
