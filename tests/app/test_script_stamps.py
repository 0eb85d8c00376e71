"""The state of script files, as their columns follow it."""

from __future__ import annotations

import pytest

from oakladder.app.script_stamps import ScriptStamps
from oakladder.user.workspace import Workspace


@pytest.mark.parametrize("name", ["gone.rung", "a\0b", "x" * 300, "../../etc", "\ud800"])
def test_a_name_that_no_file_can_have_has_no_stamp(workspace: Workspace, name: str) -> None:
    made = dict(ScriptStamps(workspace).of([name]))
    assert set(made) == {name} and made[name] is None
