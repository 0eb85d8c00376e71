"""The distances between things, in pixels of a plain screen: one scale for all places."""

from __future__ import annotations

HAIR, TIGHT, GAP, WIDE = 2, 4, 8, 12
