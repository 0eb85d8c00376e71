"""Which state of their files scripts were read in: equal where reading them again would give the same."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable

from oakladder.user.scripts import ScriptFileProblem, read_script
from oakladder.user.workspace import Workspace

Stamp = tuple[int, int]
_USES = re.compile(r"^use\b", re.MULTILINE)


class ScriptStamps:
    """Looks at the files of scripts; of one that uses others at all files of the folder."""

    def __init__(self, workspace: Workspace):
        self._workspace = workspace
        #: Whether a script uses others, by its file's name and stamp.
        self._uses: dict[tuple[str, Stamp], bool] = {}

    def of(self, scripts: Iterable[str]) -> tuple[tuple[str, Stamp | None], ...]:
        """The stamps of some files of the scripts' folder, by name; None for one that is not there."""
        names = {name for name in scripts if name}
        made = {name: self._stamp(name) for name in names}
        if any(stamp is not None and self._uses_others(name, stamp) for name, stamp in made.items()):
            folder = self._workspace.script_folder.place
            made |= {path.name: self._stamp(path.name) for path in folder.glob("*.rung")}
        return tuple(sorted(made.items()))

    def _stamp(self, name: str) -> Stamp | None:
        try:
            facts = os.stat(self._workspace.script_folder.place / name)
        except (OSError, ValueError):  # a damaged state may name anything
            return None
        return facts.st_mtime_ns, facts.st_size

    def _uses_others(self, name: str, stamp: Stamp) -> bool:
        key = (name, stamp)
        if key not in self._uses:
            try:
                self._uses[key] = bool(_USES.search(read_script(self._workspace.script_folder.place / name)))
            except ScriptFileProblem:
                self._uses[key] = False
        return self._uses[key]
