"""A window with the demo market, driven as a user would."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from PyQt6.QtWidgets import QApplication

from oakladder.bars.store.library import BarLibrary
from oakladder.desk.app import make_app, make_window
from oakladder.desk.gc_scheduler import keep_for_good
from oakladder.desk.screenshot import settle
from oakladder.desk.window import Window
from oakladder.user.workspace import Workspace
from windows import put_away


@pytest.fixture(scope="session")
def loaded(qapp: QApplication, market: BarLibrary) -> None:
    """What the tests have loaded by now is not looked through at each sweep, as in the program itself."""
    keep_for_good()


@pytest.fixture
def window(
    qapp: QApplication, workspace: Workspace, market: BarLibrary, loaded: None, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Window]:
    monkeypatch.setattr(Workspace, "library", lambda self: market)  # its bars stay in memory between tests
    app = make_app()
    made = make_window(workspace)
    made.show()
    settle(app, made.session)
    yield made
    put_away(made)


@pytest.fixture
def calm(qapp: QApplication):  # type: ignore[no-untyped-def]
    """Waits until nothing is awaited."""
    return lambda window: settle(make_app(), window.session)
