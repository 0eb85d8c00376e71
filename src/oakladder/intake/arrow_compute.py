"""pyarrow's functions on arrays, loaded when the first of them is called: who reads no files waits for none of them."""

from __future__ import annotations

from typing import Any


def __getattr__(name: str) -> Any:
    import pyarrow.compute

    return getattr(pyarrow.compute, name)
