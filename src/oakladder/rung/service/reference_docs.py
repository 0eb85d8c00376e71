"""The language described from its own tables: the page ``docs/language.md``, and help for single words."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cache
from importlib.resources import files

from oakladder.rung import library
from oakladder.rung import tree as t
from oakladder.rung.arguments import arrange, signature
from oakladder.rung.problems import CODES
from oakladder.rung.read.blocks import parse
from oakladder.rung.service.unparse import unparse
from oakladder.rung.trade_words import POSITION, POSITION_VALUES
from oakladder.rung.values import BAR_VALUES, PALETTE, PRIMITIVES, SHAPES, STYLES, TIMEFRAMES, Primitive
from oakladder.rung.words import CLAUSES, SHOWN_FORMS


def primitive_signature(primitive: Primitive) -> str:
    """A primitive as it is called."""
    more = ", …" if primitive.variadic else ""
    return f"{primitive.name}({', '.join(name for name, _ in primitive.parameters)}{more})"


@cache
def functions() -> Mapping[str, tuple[str, str]]:
    """Every function by name: how it is called, and what it gives."""
    made = {p.name: (primitive_signature(p), p.about) for p in PRIMITIVES.values()}
    for name in library.names():
        found = library.function(name)
        assert found is not None
        made[name] = (signature(found.define), found.about)
    library.cache_trees()
    return dict(sorted(made.items()))


@cache
def in_example(name: str) -> str:
    """A function's example, and which of its values is which there."""
    found = library.function(name) if name in library.names() else None
    example = found.example if found is not None else PRIMITIVES[name].example
    call = next(_calls_of(name, parse(f"rung 1\n{example}")[0]), None)
    if call is None:  # it is called without values
        return f"`{example}`"
    if found is not None:
        arranged = arrange(call, found.define)
        assert isinstance(arranged, list), example
        pairs = [
            (p.name.name, expr) for p, (expr, inside) in zip(found.define.parameters, arranged, strict=True) if inside
        ]
    else:
        names = [n for n, _ in PRIMITIVES[name].parameters]
        if PRIMITIVES[name].variadic:
            names *= len(call.arguments)
        pairs = list(zip(names, call.arguments, strict=True))
    which = ", ".join(f"{parameter} is `{unparse(expr)}`" for parameter, expr in pairs)
    return f"`{example}`: {which}" if which else f"`{example}`"


def _calls_of(name: str, node: object) -> Iterator[t.Call]:
    """The calls of a function in a piece of tree."""
    if isinstance(node, tuple):
        for part in node:
            yield from _calls_of(name, part)
        return
    if isinstance(node, t.Call) and node.name == name:
        yield node
    for slot in getattr(node, "__slots__", ()):
        yield from _calls_of(name, getattr(node, slot))


def word_help(word: str) -> str:
    """What a word of the language means; empty for other words."""
    if word == POSITION or (word.removeprefix(f"{POSITION}.") in POSITION_VALUES and "." in word):
        return _position_help(word)
    if word in BAR_VALUES:
        return f"{word}: {BAR_VALUES[word].about}"
    forms = [f"{s.form}: {s.about}" for s in SHOWN_FORMS if s.word == word]
    forms += [f"{c.form}: {c.about}" for c in CLAUSES.values() if c.word == word]
    if forms:
        return "\n".join(forms)
    known = functions()
    if word not in known:
        return ""
    return f"{known[word][0]}: {known[word][1]} In {in_example(word).replace('`', '')}."


def _position_help(word: str) -> str:
    if word == POSITION:
        return f"{POSITION}: what a script with a `trade` holds: .{', .'.join(POSITION_VALUES)}"
    return f"{word}: {POSITION_VALUES[word.partition('.')[2]][1]}"


def language_page() -> str:
    """The whole page about the language, in Markdown."""
    prose = files(__package__).joinpath("language_prose.md").read_text(encoding="utf-8")
    parts = [prose.rstrip(), "", "# Reference", ""]
    for group in dict.fromkeys(s.group for s in SHOWN_FORMS):
        parts += [f"## {group}", "", "| form | what it does |", "|---|---|"]
        parts += [f"| `{_cell(s.form)}` | {s.about} |" for s in SHOWN_FORMS if s.group == group]
        parts.append("")
    parts += [
        'Every statement that shows something also takes `color C`, `when FLAG` and `named "TEXT"`.',
        "",
        "| clause | what it says |",
        "|---|---|",
        *(f"| `{_cell(c.form)}` | {c.about} |" for c in CLAUSES.values()),
        "",
        "## Of the bar",
        "",
        "| name | what it is |",
        "|---|---|",
    ]
    parts += [f"| `{v.name}` | {v.about} |" for v in BAR_VALUES.values()]
    parts += [
        "",
        "## Of the position",
        "",
        "As it stands when the bar has closed, behind its fills; none without a position.",
        "",
        "| name | what it is |",
        "|---|---|",
        *(f"| `{POSITION}.{name}` | {about} |" for name, (_, about) in POSITION_VALUES.items()),
    ]
    parts += ["", "## Functions", "", "| call | what it gives | in an example |", "|---|---|---|"]
    parts += [f"| `{call}` | {about} | {in_example(name)} |" for name, (call, about) in functions().items()]
    parts += [
        "",
        "Those with a file in `src/oakladder/rung/library` are written in Rung and can be read there.",
        "",
        "## Words",
        "",
        f"Colours: {_words(PALETTE)}. The first five follow the theme; `#3a7d44` is a colour too.",
        "",
        f"Shapes: {_words(SHAPES)}.",
        "",
        f"Styles: {_words(STYLES)}.",
        "",
        f"Timeframes: {_words(TIMEFRAMES)}, and any whole number of minutes or hours.",
        "",
        "## Problems",
        "",
        "| code | what it says | wrong | right |",
        "|---|---|---|---|",
    ]
    parts += [
        f"| {code} | {c.title} ({c.severity.value}) | `{_cell(c.wrong)}` | `{_cell(c.right)}` |"
        for code, c in CODES.items()
    ]
    return "\n".join(parts) + "\n"


def _words(names: object) -> str:
    return ", ".join(f"`{n}`" for n in names)  # type: ignore[attr-defined]


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", " ⏎ ").replace("\t", "⇥")


#: The longest that the brief may be, in characters, so that it can be pasted anywhere.
MOST_BRIEF = 12_000


def brief() -> str:
    """The whole language in one page of plain text, for anyone who helps to write a script."""
    prose = files(__package__).joinpath("brief_prose.txt").read_text(encoding="utf-8").rstrip()
    parts = [prose, "", "STATEMENTS"]
    parts += [f"{s.form}: {s.about}" for s in SHOWN_FORMS]
    parts += ["", "OF THE BAR", "; ".join(f"{v.name} ({v.about})" for v in BAR_VALUES.values())]
    position = "; ".join(f"{POSITION}.{name} ({about})" for name, (_, about) in POSITION_VALUES.items())
    parts += ["", "OF THE POSITION (none without one)", position]
    parts += ["", "FUNCTIONS (lengths are fixed whole numbers; several results are picked by name)"]
    for name, (call, _) in functions().items():
        found = library.function(name) if name in library.names() else None
        results = results_of(found) if found else ()
        parts.append(f"{call}" + (f" gives .{' .'.join(results)}" if results else ""))
    parts += [
        "",
        "WORDS",
        f"colours: {' '.join(PALETTE)} or #rrggbb",
        f"shapes: {' '.join(SHAPES)}",
        f"styles: {' '.join(STYLES)}",
        f"timeframes: {' '.join(TIMEFRAMES)}, any whole minutes or hours",
    ]
    return "\n".join(parts) + "\n"


def results_of(found: library.LibraryFunction) -> tuple[str, ...]:
    """The names of a function's results, if it gives several."""
    given = next(s for s in found.define.body if isinstance(s, t.Give))
    return tuple(v.name for v in given.values if isinstance(v, t.Name)) if len(given.values) > 1 else ()
