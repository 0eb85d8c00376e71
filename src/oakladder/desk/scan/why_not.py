"""Why a symbol is not among what a scan finds."""

from __future__ import annotations

from collections.abc import Callable

from oakladder.app.jobs import sentence_of
from oakladder.app.session import Session
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.scan.words import why_not_words
from oakladder.engine.scan.conditions import Condition
from oakladder.engine.scan.why_not import WhyNot, why_not
from oakladder.rung.problems import did_you_mean
from oakladder.user.scans import SavedScan, ScanProblem

#: Takes the symbol, what each condition says of it (or what failed), the scan, and all of it in words.
Then = Callable[[str, WhyNot | Exception, SavedScan, str], None]


def ask_why_not(
    session: Session, typed: str, scan: SavedScan, condition_of: Callable[[SavedScan], Condition], then: Then
) -> None:
    """Computes in the background what each condition of a scan says of a symbol; nothing for an empty text. Raises
    `ScanProblem` for an unknown symbol, or as ``condition_of``."""
    symbol, infos = typed.strip().upper(), session.symbols.infos
    if not symbol:
        return
    if symbol not in infos:
        raise ScanProblem(f"There is no symbol {symbol}. {did_you_mean(symbol, infos)}".strip())
    condition, listed = condition_of(scan), symbol in session.lists.symbols(scan.list_name, infos)
    source, frame = session.replay.source, Timeframe.parse(scan.timeframe)
    paths = [session.workspace.scripts / name for name in scan.scripts()]
    session.jobs.start(
        "why not",
        lambda _: why_not(condition, source, symbol, frame, session.seals.of_all(paths, symbol, (symbol,))),
        lambda made: then(symbol, made, scan, why_not_words(symbol, made, scan.list_name, listed=listed)),
        lambda error: then(symbol, error, scan, sentence_of(error)),
        slow=True,
    )
