"""A random user in a process of its own: ``python second_user.py SECONDS SEED OUT`` writes what it has seen."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


def answer_dialogs(folder: Path, table: Path, put) -> None:  # type: ignore[no-untyped-def]
    """Has dialogs of the system answered, and nothing opened outside; ``put`` sets an attribute of a class."""
    from PyQt6.QtGui import QDesktopServices
    from PyQt6.QtWidgets import QFileDialog

    put(QDesktopServices, "openUrl", lambda *_: True)
    for name, given in (
        ("getSaveFileName", (str(folder / "saved.csv"), "")),
        ("getOpenFileName", (str(table), "")),
        ("getOpenFileNames", ([str(table)], "")),
        ("getExistingDirectory", str(folder)),
    ):
        put(QFileDialog, name, lambda *_, given=given, **__: given)


def write_table(path: Path) -> Path:
    rows = "".join(f"2026-0{1 + k // 28}-{1 + k % 28:02},10,11,9,10.5,{k}\n" for k in range(112))
    path.write_text("date,open,high,low,close,volume\n" + rows)
    return path


def main() -> None:
    seconds, seed, out = float(sys.argv[1]), int(sys.argv[2]), Path(sys.argv[3])
    sys.path.insert(0, str(Path(__file__).parent.parent))
    from faults.random_user import RandomUser
    from oakladder.desk.app import make_app, make_window
    from oakladder.desk.gc_scheduler import keep_for_good
    from oakladder.desk.screenshot import settle
    from oakladder.user.workspace import Workspace
    from windows import put_away

    folder = out.parent / "second"
    folder.mkdir(exist_ok=True)
    answer_dialogs(folder, write_table(folder / "SECOND.csv"), setattr)
    os.chdir(folder)
    app = make_app()
    window = make_window(Workspace.default())
    window.show()
    settle(app, window.session)
    keep_for_good()
    seen = RandomUser(window, seed).go(seconds)
    put_away(window)
    told = {"words": seen.words(), "errors": seen.errors, "holds": [list(h) for h in seen.holds]}
    out.write_text(json.dumps(told | {"acts": sum(seen.acts.values()), "longest": seen.longest}))
    os._exit(0)


if __name__ == "__main__":
    main()
