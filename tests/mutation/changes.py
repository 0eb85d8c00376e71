"""Small changes to a Python file, each at one place of its syntax tree: what a slip of the hand could be."""

from __future__ import annotations

import ast
import itertools
import random
from collections.abc import Iterator
from dataclasses import dataclass

_COMPARED = {
    ast.Lt: "<=",
    ast.LtE: "<",
    ast.Gt: ">=",
    ast.GtE: ">",
    ast.Eq: "!=",
    ast.NotEq: "==",
    ast.In: "not in",
    ast.NotIn: "in",
    ast.Is: "is not",
    ast.IsNot: "is",
}
_COMPUTED = {ast.Add: "-", ast.Sub: "+", ast.Mult: "/", ast.Div: "*", ast.FloorDiv: "*", ast.Mod: "+"}
#: Calls whose words are for people; how they are written is looked at elsewhere.
_TOLD = {"RunProblem", "DataProblem", "info", "warning", "exception", "debug", "AssertionError"}
#: Arguments that guard against slips or decide speed: another value changes nothing that comes out.
_GUARDS = {
    "strict",
    "zero_copy_only",
    "copy",
    "frozen",
    "slots",
    "compare",
    "repr",
    "exist_ok",
    "parents",
    "maxsize",
    "durable",
}


@dataclass(frozen=True, slots=True)
class Change:
    """Another text for a stretch of a file (offsets in bytes), and the line that it is on."""

    start: int
    end: int
    new: str
    line: int

    def applied(self, source: bytes) -> bytes:
        return source[: self.start] + self.new.encode() + source[self.end :]

    def words(self, source: bytes) -> str:
        """The line before and after."""
        before = source.splitlines()[self.line - 1].decode().strip()
        after = self.applied(source).splitlines()[self.line - 1].decode().strip()
        return f"{before}  =>  {after}"


def changes_of(source: bytes) -> list[Change]:
    """Every change of a file, some of which may give a file that is no Python: see `is_sound`."""
    tree = ast.parse(source)
    lines = [0]
    for line in source.split(b"\n"):
        lines.append(lines[-1] + len(line) + 1)

    def at(line: int, column: int) -> int:
        return lines[line - 1] + column

    def between(left: ast.expr, right: ast.expr, new: str) -> Change:
        """What stands between two operands, in the place of the operator."""
        start = at(left.end_lineno or 1, left.end_col_offset or 0)
        end = at(right.lineno, right.col_offset)
        kept = source[start:end]
        closing, opening = kept[: len(kept) - len(kept.lstrip(b" )\n"))], kept[len(kept.rstrip(b" (\n")) :]
        return Change(start + len(closing), end - len(opening), new, left.end_lineno or 1)

    def whole(node: ast.expr, new: str) -> Change:
        return Change(
            at(node.lineno, node.col_offset), at(node.end_lineno or 1, node.end_col_offset or 0), new, node.lineno
        )

    made: list[Change] = []
    for node in _running(tree):
        match node:
            case ast.Compare(left, [op], [right]) if type(op) in _COMPARED:
                made.append(between(left, right, _COMPARED[type(op)]))
            case ast.BinOp(left, op, right) if type(op) in _COMPUTED and not _is_text(left) and not _is_text(right):
                made.append(between(left, right, _COMPUTED[type(op)]))
            case ast.BoolOp(op, [left, right, *_]):
                made.append(between(left, right, "or" if isinstance(op, ast.And) else "and"))
            case ast.UnaryOp(ast.Not(), operand):
                start = at(node.lineno, node.col_offset)
                made.append(Change(start, at(operand.lineno, operand.col_offset), "", node.lineno))
            case ast.UnaryOp(ast.USub(), operand):
                start = at(node.lineno, node.col_offset)
                made.append(Change(start, at(operand.lineno, operand.col_offset), "", node.lineno))
            case ast.Constant(bool() as value):
                made.append(whole(node, str(not value)))
            case ast.Constant(int() as value):
                made.append(whole(node, str(value + 1)))
            case ast.IfExp(_, body, orelse):
                yes, no = whole(body, ""), whole(orelse, "")
                words = source[no.start : no.end].decode()
                if "\n" not in words:
                    made.append(Change(yes.start, yes.end, f"({words})", yes.line))
    return made


def _is_text(node: ast.expr) -> bool:
    return isinstance(node, ast.JoinedStr) or (isinstance(node, ast.Constant) and isinstance(node.value, str))


def is_sound(source: bytes) -> bool:
    """Whether a text is Python."""
    try:
        ast.parse(source)
    except SyntaxError:
        return False
    return True


def _running(tree: ast.AST) -> Iterator[ast.AST]:
    """What runs: no annotations, no docstrings, no words for people, no limits that are written in capitals."""
    todo = [tree]
    while todo:
        node = todo.pop()
        for name, value in ast.iter_fields(node):
            if name in ("annotation", "returns", "decorator_list") or (
                name == "keywords" and isinstance(node, ast.ClassDef)
            ):
                continue
            for child in value if isinstance(value, list) else [value]:
                if isinstance(child, ast.AST) and _counts(node, child):
                    yield child
                    todo.append(child)


def _counts(node: ast.AST, child: ast.AST) -> bool:
    """Whether a part of the tree does something that a test could notice."""
    match child:
        case ast.Raise() | ast.Assert() | ast.JoinedStr():
            return False
        case ast.Call():
            return _called(child) not in _TOLD
        case ast.keyword():
            return child.arg not in _GUARDS
        case ast.Assign() | ast.AnnAssign():
            return not isinstance(node, ast.Module)
        case ast.If():
            return "TYPE_CHECKING" not in ast.unparse(child.test)
    return True


def _called(call: ast.Call) -> str:
    return call.func.attr if isinstance(call.func, ast.Attribute) else getattr(call.func, "id", "")


def chosen(sources: dict[str, bytes], count: int, seed: int) -> list[tuple[str, Change]]:
    """So many sound changes over some files, each place as likely as any other."""
    everything = [(name, change) for name, source in sorted(sources.items()) for change in changes_of(source)]
    random.Random(seed).shuffle(everything)
    sound = ((name, change) for name, change in everything if is_sound(change.applied(sources[name])))
    return list(itertools.islice(sound, count))
