"""Random programs, as strategies: expressions of numbers and flags, over a function with every kind of statement."""

from __future__ import annotations

from hypothesis import strategies as st

NUMBERS = st.sampled_from(
    [
        "close",
        "open",
        "high",
        "volume",
        "1",
        "0",
        "2.5",
        "-3",
        "(0 / 0)",
        "bar",
        "hl2",
        "weekday",
        "month",
        "session_bar",
        "n",
        "m * 2",
    ]
)
LENGTHS = st.sampled_from(["1", "2", "3", "7", "n", "n + 1"])


def _extend(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    pair = st.tuples(inner, inner)
    flags = st.one_of(
        st.tuples(inner, st.sampled_from(["<", "<=", ">", ">=", "==", "!="]), inner).map(
            lambda t: f"({t[0]} {t[1]} {t[2]})"
        ),
        pair.map(lambda t: f"crosses_up({t[0]}, {t[1]})"),
        pair.map(lambda t: f"({t[0]} > {t[1]} and not ({t[1]} > 3) or known({t[0]}))"),
        inner.map(lambda e: f"starts({e} > 2)"),
    )
    return st.one_of(
        st.tuples(inner, st.sampled_from(["+", "-", "*", "/", "mod", "^"]), inner).map(
            lambda t: f"({t[0]} {t[1]} {t[2]})"
        ),
        st.tuples(inner, LENGTHS).map(lambda t: f"({t[0]})[{t[1]}]"),
        st.tuples(
            st.sampled_from(["sum", "highest", "lowest", "sma", "ema", "wilder", "rsi", "stdev"]), inner, LENGTHS
        ).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        st.tuples(st.sampled_from(["abs", "sqrt", "log", "exp", "floor", "ceil"]), inner).map(
            lambda t: f"{t[0]}({t[1]})"
        ),
        st.tuples(st.sampled_from(["min", "max"]), inner, inner).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        st.tuples(flags, inner, inner).map(lambda t: f"(if {t[0]} then {t[1]} else {t[2]})"),
        pair.map(lambda t: f"({t[0]} else {t[1]})"),
        flags.map(lambda f: f"age({f})"),
        st.tuples(
            st.sampled_from(["median", "linear", "wma", "percent_rank", "highest_ago", "adaptive", "hull"]),
            inner,
            LENGTHS,
        ).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        st.tuples(flags, LENGTHS).map(lambda t: f"count({t[0]}, {t[1]})"),
        st.tuples(flags, inner).map(lambda t: f"latch({t[0]}, {t[1]}, 1)"),
        inner.map(lambda e: f"highest_since(new(1w), {e})"),
        inner.map(lambda e: f"macd({e}, 3, 5, 2).gap"),
        flags.map(lambda f: f"streak({f})"),
        inner.map(lambda e: f"({e} on 1w)"),
        inner.map(lambda e: f"({e} on 1mo forming)"),
        pair.map(lambda t: f"counted({t[0]}, {t[1]})"),
    )


EXPRESSIONS = st.recursive(NUMBERS, _extend, max_leaves=6)
PROLOGUE = """setting n = 3 range 1..9
setting m = 0.5 range -10..10
define counted(a, b)
    keep total = 0
    fresh best = none
    for k in 0..3
        if a[k] > b
            set best = a[k]
        else if k == 2
            stop
    if best > 0
        set total = total + 1
    give total + (best else 0)
"""
