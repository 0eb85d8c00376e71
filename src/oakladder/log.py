"""The log of unexpected errors with their tracebacks: a rotating file of the user's."""

from __future__ import annotations

import logging
import logging.handlers
import sys
from pathlib import Path

import platformdirs

_NAME = "oakladder"
_MOST_BYTES, _FILES = 1_000_000, 4
_FORM = "%(asctime)s %(levelname)s %(name)s: %(message)s"


def log_file() -> Path:
    """The file that is written now."""
    return Path(platformdirs.user_log_dir("oakladder")) / "oakladder.log"


def set_up() -> None:
    """Begins to write warnings and errors down; where the file cannot be written they go to standard error."""
    root = logging.getLogger()
    if any(handler.get_name() == _NAME for handler in root.handlers):
        return
    handler: logging.Handler
    try:
        path = log_file()
        path.parent.mkdir(parents=True, exist_ok=True)
        handler = logging.handlers.RotatingFileHandler(
            path, maxBytes=_MOST_BYTES, backupCount=_FILES, encoding="utf-8", delay=True, errors="replace"
        )
    except OSError:
        handler = logging.StreamHandler(sys.stderr)
    handler.set_name(_NAME)
    handler.setFormatter(logging.Formatter(_FORM))
    root.addHandler(handler)
    logging.raiseExceptions = False  # a full disk must not make more trouble than it is
