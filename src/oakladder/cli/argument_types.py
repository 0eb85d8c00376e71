"""What an argument of a command may be: each converts a text, or says in a sentence why it does not fit."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path


def a_path(text: str) -> Path:
    """A path of a file or folder; the sentence is for the user."""
    if not text:
        raise argparse.ArgumentTypeError("a name is needed, and this one is empty")
    return Path(text)


def a_number(text: str) -> float:
    """A number; the sentence is for the user."""
    try:
        return float(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text} is not a number") from None


def at_least(least: int) -> Callable[[str], int]:
    """A whole number that is not smaller."""

    def convert(text: str) -> int:
        if not text.strip().isdecimal() or int(text) < least:
            raise argparse.ArgumentTypeError(f"{text} is not a whole number of at least {least}")
        return int(text)

    return convert
