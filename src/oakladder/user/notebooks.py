"""The notebooks of rules on disk: a folder for each with a line of JSON for each entry, and a Parquet file for each sweep.

Entries are only ever added. A line that was damaged costs itself alone.
"""

from __future__ import annotations

import contextlib
import hashlib
import logging
import math
import threading
import time
from collections.abc import Callable, Sequence, Set
from pathlib import Path

import msgspec

from oakladder.disk import copy_aside, read_regular, replacing, why
from oakladder.rung.texts import agree, count_words
from oakladder.trial.batch.task import Tried
from oakladder.trial.metrics.metrics import METRICS
from oakladder.trial.notebook import Continued, Entry, Notebook, Swept, Text, What, in_order, mark_of, rule_mark
from oakladder.trial.sweep.ranges import Range
from oakladder.user.json_lines import append_lines, read_lines

_log = logging.getLogger(__name__)
#: Max length of a file name; longer names of rules get a hash.
_LONGEST = 120
#: The metrics of a sweep.
_METRICS = tuple(name for name, metric in METRICS.items() if not metric.of_book)
_COUNTS = ("undecided", "contradictions", "touched")


class Notebooks:
    """The notebooks of all rules. A rule goes by the name of its script, or by its path where it stands elsewhere.

    ``tell`` receives messages about damaged files. Thread-safe.
    """

    def __init__(self, folder: Path, scripts: Path, tell: Callable[[str], None] = lambda _: None):
        self.folder, self._scripts, self._tell = folder, scripts, tell
        self._known: dict[Path, tuple[tuple[int, int], Notebook]] = {}
        self._rows: dict[Path, list[Tried]] = {}
        self._turn = threading.Lock()

    def rule_name(self, script: Path) -> str:
        """What a rule goes by."""
        script = script.absolute()
        return script.stem if script.parent == self._scripts.absolute() else str(script)

    def place(self, rule: str) -> Path:
        """The folder of a rule."""
        stem = Path(rule).name.removesuffix(".rung")
        name = stem.encode("utf-8", "surrogatepass")[:_LONGEST].decode("utf-8", "ignore").lstrip(".")
        if name != rule:  # it stands elsewhere, or its name is too long or odd for a folder
            mark = hashlib.blake2b(rule.encode("utf-8", "surrogatepass"), digest_size=6).hexdigest()
            name = f"{name}-{mark}"
        return self.folder / name

    def read(self, rule: str) -> Notebook:
        """All entries of a rule; none for a new one. Damaged ones are skipped and reported, with a copy of the file. Raises `OSError`."""
        with self._turn:
            own = self._own(self.place(rule), rule)
            if not any(isinstance(e, Continued) for e in own.entries):
                return own
            books = self._line(own, rule)
            entries = [e for book, until in books.values() for e in book.entries if e.moment <= until]
            return Notebook(
                in_order(entries), {file: rows for book, _ in books.values() for file, rows in book.rows.items()}
            )

    def folders(self, rule: str) -> list[str]:
        """The names of a rule's folder, and of the notebooks that it continues. Raises `OSError`."""
        with self._turn:
            return list(self._line(self._own(self.place(rule), rule), rule))

    def _line(self, own: Notebook, rule: str) -> dict[str, tuple[Notebook, float]]:
        """A rule's own notebook and all that it goes on with, each up to the moment at which the rule was copied, by the
        names of their folders."""
        made = {self.place(rule).name: (own, math.inf)}
        links = [e for e in own.entries if isinstance(e, Continued)]
        while links:
            link = links.pop()
            if link.folder not in made:
                other = self._own(self.folder / link.folder, link.folder)
                made[link.folder] = other, link.moment
                links += [e for e in other.entries if isinstance(e, Continued) and e.moment <= link.moment]
        return made

    def _own(self, folder: Path, rule: str) -> Notebook:
        """The entries in one folder."""
        path = folder / "log.jsonl"
        try:
            stat = path.stat()
        except (FileNotFoundError, NotADirectoryError):
            return Notebook()
        state = stat.st_mtime_ns, stat.st_size
        known = self._known.get(path)
        if known is not None and known[0] == state:
            return known[1]
        entries, damaged = read_lines(read_regular(path), Entry)
        if damaged:
            with contextlib.suppress(OSError):
                copy_aside(path)
            self._tell(
                f"{count_words(damaged, 'line')} of the notebook of {rule} {agree(damaged, 'is', 'are')} damaged and left out; "
                "a copy is kept beside it."
            )
        swept = [e.file for e in entries if isinstance(e, Swept)]
        made = Notebook(in_order(entries), {name: self._rows_of(folder / name) for name in swept})
        self._known[path] = state, made
        return made

    def has_begun(self, rule: str) -> bool:
        """Whether anything was ever written down of a rule."""
        return (self.place(rule) / "log.jsonl").exists()

    def go_on(self, rule: str, marks: Set[str]) -> None:
        """Lets a rule that has no notebook yet go on with that of a script that has one of its ``marks`` (`marks_of`), if
        there is one: it was copied or renamed. Raises `OSError`."""
        if self.has_begun(rule) or not self.folder.is_dir():
            return
        for folder in sorted(self.folder.iterdir()):
            try:
                with self._turn:
                    known = self._own(folder, folder.name)
            except OSError:  # that one cannot be read: the others can
                continue
            if any(isinstance(e, Text) and (e.compiled in marks or rule_mark(e.text) in marks) for e in known.entries):
                self.add(rule, Continued(time.time(), folder.name))
                return

    def _rows_of(self, path: Path) -> list[Tried]:
        if path not in self._rows:
            try:
                self._rows[path] = read_rows(path)
            except (OSError, ValueError) as error:
                _log.warning("the sweep %s cannot be read: %s", path, error)
                return []
        return self._rows[path]

    def add(self, rule: str, *entries: Entry) -> None:
        """Adds entries. Raises `OSError`; then none is added."""
        with self._turn:
            append_lines(self.place(rule) / "log.jsonl", entries)

    def keep_text(self, rule: str, text: str, compiled: str = "") -> None:
        """Writes a text down, with the mark of what it compiles to, unless it is known. Raises `OSError`."""
        if self.read(rule).text(mark_of(text)) is None:
            self.add(rule, Text(time.time(), mark_of(text), text, compiled))

    def keep_sweep(
        self,
        rule: str,
        what: What,
        ranges: Sequence[Range],
        rows: Sequence[Tried],
        *,
        sealed: bool = True,
        tuned: bool = False,
    ) -> Swept:
        """Records the result of a sweep, over history without its ``sealed`` part or all of it, and then whether it was
        ``tuned`` on known data. Raises `OSError`."""
        moment = time.time()
        name = f"sweep-{time.time_ns()}.parquet"
        write_rows_of(self.place(rule) / name, rows)
        entry = Swept(moment, what, name, {r.name: list(r.values) for r in ranges}, len(rows), sealed, tuned)
        self.add(rule, entry)
        return entry


def write_rows_of(path: Path, rows: Sequence[Tried]) -> None:
    """Writes the results of variants as Parquet, atomically: their settings, metrics, counts and problems."""
    import pyarrow as pa
    from pyarrow import parquet

    columns: dict[str, object] = {
        "settings": [msgspec.json.encode(r.settings).decode() for r in rows],
        "problem": [r.problem for r in rows],
    }
    columns |= {name: pa.array([r.metrics.get(name) for r in rows], pa.float64()) for name in _METRICS}
    columns |= {name: pa.array([r.counts.get(name) for r in rows], pa.int64()) for name in _COUNTS}
    with replacing(path) as partial:
        parquet.write_table(pa.table(columns), partial, write_page_checksum=True)


def read_rows(path: Path) -> list[Tried]:
    """The results of variants, as written. Raises `OSError`, or `ValueError` for any other file."""
    import pyarrow as pa
    from pyarrow import parquet

    try:
        plain = parquet.read_table(path, page_checksum_verification=True).to_pylist()
        made = []
        for row in plain:
            counts = {n: row[n] for n in _COUNTS if row.get(n) is not None}
            settings = msgspec.json.decode(row["settings"], type=dict[str, float | str | bool])
            metrics = {n: row.get(n) for n in _METRICS} if not row["problem"] else {}
            made.append(Tried(dict(settings), metrics, counts, row["problem"]))
        return made
    except (pa.ArrowException, KeyError, TypeError, UnicodeDecodeError, msgspec.MsgspecError) as error:
        raise ValueError(f"{path.name} cannot be read as a sweep: {error}") from None


def trouble_of(error: OSError) -> str:
    """What is said where a notebook cannot be written."""
    return f"The notebook cannot be written: {why(error)}. The trial itself stands."
