"""Evidence as plain data, for JSON."""

from __future__ import annotations

from dataclasses import asdict

from oakladder.bars.time_words import iso
from oakladder.trial.judge.evidence.study import Evidence
from oakladder.trial.judge.evidence.words import sentence, warnings


def as_plain(evidence: Evidence) -> dict[str, object]:
    """Evidence as dictionaries, lists, numbers and texts; what is not defined is none."""
    return {
        "signal": evidence.signal,
        "tone": evidence.tone.value,
        "timeframe": str(evidence.ground.panel.timeframe),
        "symbols": len(evidence.ground.panel),
        "count": len(evidence.places),
        "overall": evidence.overall,
        "sealed_from": None if evidence.ground.seal is None else iso(evidence.ground.seal),
        "tuned": evidence.ground.is_tuned,
        "horizons": [asdict(h) for h in evidence.horizons],
        "words": sentence(evidence),
        "warnings": warnings(evidence),
    }
