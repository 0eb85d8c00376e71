"""Functions of other scripts: each is taken together with what it calls there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, fields, replace
from typing import Any

from oakladder.rung import tree as t
from oakladder.rung.read.blocks import parse

#: Separates the title of a script from the name of its function: no written name contains it.
_MARK = ": "


@dataclass(frozen=True, slots=True)
class OtherScripts:
    """The other scripts that `use` may take from: title and text of each, and their folder."""

    scripts: tuple[tuple[str, str], ...] = ()
    folder: str = ""

    def text(self, title: str) -> str | None:
        """The script of a title; None without one."""
        return dict(self.scripts).get(title)

    @property
    def titles(self) -> tuple[str, ...]:
        return tuple(title for title, _ in self.scripts)


def is_taken(name: str) -> bool:
    """Whether a function is one of another script, called from within that."""
    return _MARK in name


def functions_of(
    title: str, others: OtherScripts, known: dict[str, dict[str, t.Define]] | None = None
) -> dict[str, t.Define]:
    """Every function that a script makes or takes itself; functions called by them have names with its title.

    ``known`` are those of the scripts that were looked at: each is once, and two that take from each other end.
    """
    known = {} if known is None else known
    if title in known:
        return known[title]
    known[title] = {}
    text = others.text(title)
    if text is None:
        return {}
    statements = parse(text)[0].statements
    own = {s.name.name: s for s in statements if isinstance(s, t.Define)}
    made: dict[str, t.Define] = {}
    names = {name: f"{title}{_MARK}{name}" for name in own}
    for use in statements:
        if isinstance(use, t.Use):
            theirs = functions_of(use.title, others, known)
            made.update({name: define for name, define in theirs.items() if is_taken(name)})
            names.update({n.name: f"{use.title}{_MARK}{n.name}" for n in use.names if n.name in theirs})
    for name, define in own.items():
        made[name] = made[names[name]] = _renamed(define, names)
    known[title] = made
    return made


def own_values_read(title: str, name: str, others: OtherScripts) -> list[tuple[str, str]]:
    """The settings and values of a script that one of its functions reads, itself or in functions it calls there: name
    and what made it. Such a function cannot be taken from the script."""
    statements = parse(others.text(title) or "")[0].statements
    made: dict[str, str] = {}
    for s in statements:
        match s:
            case t.Setting() | t.Keep() | t.Signal():
                made[s.name.name] = "keep" if isinstance(s, t.Keep) else type(s).__name__.lower()
            case t.Let():
                made.update({n.name: "let" for n in s.names})
    defines = {s.name.name: s for s in statements if isinstance(s, t.Define)}
    found: dict[str, str] = {}
    for function in reached(name, defines) if name in defines else ():
        define = defines[function]
        own = {p.name.name for p in define.parameters} | set(_made_in(define.body))
        found.update({n: made[n] for n in _calls(define.body) if n in made and n not in own and n not in defines})
    return list(found.items())


def _made_in(node: Any) -> Iterator[str]:
    """The names that the statements of a body make."""
    if isinstance(node, tuple):
        for part in node:
            yield from _made_in(part)
        return
    match node:
        case t.Let():
            yield from (n.name for n in node.names)
        case t.Keep():
            yield node.name.name
        case t.For():
            yield node.counter.name
    for slot in getattr(node, "__slots__", ()):
        if slot != "span":
            yield from _made_in(getattr(node, slot))


def reached(name: str, functions: Mapping[str, t.Define]) -> Iterator[str]:
    """A function and all that it calls, by their names."""
    seen, todo = {name}, [name]
    while todo:
        at = todo.pop()
        yield at
        for called in _calls(functions[at].body):
            if called in functions and called not in seen:
                seen.add(called)
                todo.append(called)


def _calls(node: Any) -> Iterator[str]:
    """The names of the functions that a piece of tree calls; a name alone may be a call without values."""
    if isinstance(node, tuple):
        for part in node:
            yield from _calls(part)
        return
    if isinstance(node, t.Call | t.Name):
        yield node.name
    for slot in getattr(node, "__slots__", ()):
        if slot != "span":
            yield from _calls(getattr(node, slot))


def _renamed(node: Any, names: Mapping[str, str]) -> Any:
    """A piece of tree whose calls go by other names; what it makes itself stays."""
    if isinstance(node, tuple):
        parts = tuple(_renamed(part, names) for part in node)
        return node if all(a is b for a, b in zip(parts, node, strict=True)) else parts
    if not hasattr(node, "__slots__") or not hasattr(node, "span"):
        return replace(node, value=_renamed(node.value, names)) if isinstance(node, t.TextPart) else node
    changed = {}
    for field in fields(node):
        old = getattr(node, field.name)
        if field.name != "span" and (new := _renamed(old, names)) is not old:
            changed[field.name] = new
    if isinstance(node, t.Call) and node.name in names:
        changed["name"] = names[node.name]
    return replace(node, **changed) if changed else node
