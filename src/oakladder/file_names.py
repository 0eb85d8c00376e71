"""Names of files: texts as names that can be turned back, and names that are not taken yet."""

from __future__ import annotations

import itertools
from pathlib import Path


def free_path(folder: Path, stem: str, suffix: str) -> Path:
    """A file of that name, or with a number behind it, that is not there yet."""
    path = folder / f"{stem}{suffix}"
    for k in itertools.count(2):
        if not path.exists():
            break
        path = folder / f"{stem}_{k}{suffix}"
    return path


_PLAIN = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.")


def safe_name(text: str) -> str:
    """A text as a file name that can be turned back: it holds no sign that means something in a path, and two texts
    that differ give names that differ, also where a disk takes small letters for large ones.

    Large letters, digits, ``-``, ``_`` and (but at the start) ``.`` stand for themselves, every other sign for its
    UTF-8 bytes as ``%`` and two digits.
    """
    if _stands_for_itself(text):
        return text
    made = []
    for k, sign in enumerate(text):
        plain = sign in _PLAIN and not (k == 0 and sign == ".")
        made.append(sign if plain else "".join(f"%{byte:02x}" for byte in sign.encode("utf-8", "surrogatepass")))
    return "".join(made)


def _stands_for_itself(text: str) -> bool:
    """Whether a text is its own safe name, as nearly all are."""
    return not text.startswith(".") and _PLAIN.issuperset(text)


def plain_name(name: str) -> str:
    """The text that `safe_name` has turned into a file name. Raises `ValueError` for a name that it never gives."""
    if _stands_for_itself(name):
        return name
    raw = bytearray()
    k = 0
    while k < len(name):
        if name[k] == "%":
            raw += bytes.fromhex(name[k + 1 : k + 3])
            k += 3
        else:
            raw += name[k].encode("utf-8", "surrogatepass")
            k += 1
    text = raw.decode("utf-8", "surrogatepass")
    if safe_name(text) != name:
        raise ValueError(f"{name} is no name of ours")
    return text
