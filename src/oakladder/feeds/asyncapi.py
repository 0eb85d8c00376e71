"""The feed protocol as an AsyncAPI document, made of the messages themselves: `docs/feed.asyncapi.json`."""

from __future__ import annotations

from typing import Any

import msgspec

from oakladder.feeds import messages as m

#: By who says them: the messages, each with what it is for.
SAID = {
    "client": (m.ClientHello, m.Want),
    "server": (m.ServerHello, m.Symbols, m.CaughtUp, m.Bar, m.Trade, m.Beat, m.Trouble),
}


def document() -> dict[str, Any]:
    """The document, AsyncAPI 3.0."""
    every = [kind for kinds in SAID.values() for kind in kinds]
    _, schemas = msgspec.json.schema_components(every, ref_template="#/components/schemas/{name}")
    return {
        "asyncapi": "3.0.0",
        "info": {
            "title": "Oak Ladder feed",
            "version": str(m.VERSION),
            "description": "Live minutes and trades over a WebSocket, one JSON object per text frame. docs/feed.md tells the rules.",
        },
        "servers": {"local": {"host": "localhost:8777", "protocol": "ws"}},
        "channels": {
            "feed": {
                "address": "/",
                "messages": {_name(kind): {"$ref": f"#/components/messages/{_name(kind)}"} for kind in every},
            }
        },
        "operations": {
            # Told from the server's side, whose document this is.
            f"{side}-says": {
                "action": "receive" if side == "client" else "send",
                "channel": {"$ref": "#/channels/feed"},
                "messages": [{"$ref": f"#/channels/feed/messages/{_name(kind)}"} for kind in kinds],
            }
            for side, kinds in SAID.items()
        },
        "components": {
            "messages": {
                _name(kind): {
                    "name": kind.__struct_config__.tag,
                    "summary": " ".join((kind.__doc__ or "").split()),
                    "contentType": "application/json",
                    "payload": {"$ref": f"#/components/schemas/{kind.__name__}"},
                }
                for kind in every
            },
            "schemas": schemas,
        },
    }


def _name(kind: Any) -> str:
    return str(kind.__name__)
