"""An expression that is written out again means the same, and has no needless brackets."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oakladder.rung import tree as t
from oakladder.rung.read.blocks import parse
from oakladder.rung.service.unparse import unparse


def expression(text: str) -> t.Expr:
    script, problems = parse(f"let x = {text}")
    assert not problems, text
    (statement,) = script.statements
    assert isinstance(statement, t.Let)
    return statement.value


@pytest.mark.parametrize(
    "text",
    [
        "close > open and not low < open[1]",
        "a - (b - c) - d",
        "-(a + b) ^ 2",
        "if a > b then c else d else e",
        "(a else b) + 1",
        "rsi(close, 14) on 1d > 50",
        '(close > open) on 1w forming of "REED"',
        "20 < r < 80",
        "macd(close, fast = 12).line[3]",
        '"at {close:.2} and {{so}}"',
        "09:30 <= clock",
        "yes or none == no",
        "(a else b) else c else d",
        "(a ^ b) ^ c ^ -d",
        "a * (b + c) mod d / 0.05",
        "#3a7d44",
    ],
)
def test_what_is_written_well_stays_as_it_is(text: str) -> None:
    assert unparse(expression(text)) == text


_LEAF = st.sampled_from(["a", "b", "1", "0.5", "f(a, n = 2)", "none", "yes"])


def _extend(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    ops = st.sampled_from(["+", "-", "*", "/", "mod", "^", "and", "or", "else", "<", "==", ">="])
    return st.one_of(
        st.builds(lambda a, op, b: f"({a}) {op} ({b})", inner, ops, inner),
        inner.map(lambda a: f"not ({a})"),
        inner.map(lambda a: f"-({a})"),
        inner.map(lambda a: f"({a})[2]"),
        inner.map(lambda a: f"({a}) on 1w forming"),
        st.builds(lambda a, b, c: f"if ({a}) then ({b}) else ({c})", inner, inner, inner),
    )


@settings(max_examples=500, deadline=None)
@given(st.recursive(_LEAF, _extend, max_leaves=8))
def test_written_and_read_again_it_is_the_same_tree(text: str) -> None:
    once = expression(text)
    again = expression(unparse(once))
    assert shape(again) == shape(once)


def shape(node: object) -> object:
    """A tree without its places."""
    if isinstance(node, tuple):
        return tuple(shape(n) for n in node)
    if hasattr(node, "__slots__"):
        return (type(node).__name__, *(shape(getattr(node, s)) for s in node.__slots__ if s != "span"))
    return node
