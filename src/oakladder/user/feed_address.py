"""The feed that a user follows: its address and what it asks for, in a readable file."""

from __future__ import annotations

from pathlib import Path

import msgspec

from oakladder.disk import read_text
from oakladder.user.workspace import Workspace

#: The file, in the folder of settings.
FEED = "feed.json"


class FeedAddress(msgspec.Struct, frozen=True):
    """The address of a feed, such as ``wss://feed.example.org``, and its token; empty without one."""

    url: str = ""
    token: str = ""

    @classmethod
    def configured(cls, workspace: Workspace) -> FeedAddress:
        """The feed that the user has set; an empty address without one. Raises `ValueError` for a file that makes no
        sense."""
        return feed_in(workspace.config / FEED)


def feed_in(path: Path) -> FeedAddress:
    """The feed that a file names; an empty address without a file. Raises `ValueError`."""
    try:
        return msgspec.json.decode(read_text(path), type=FeedAddress)
    except FileNotFoundError:
        return FeedAddress()
    except (OSError, UnicodeDecodeError, msgspec.MsgspecError) as error:
        raise ValueError(f"{path} cannot be read as a feed's address: {error}") from None
