"""Problems as they are found: each once, and blamed on what the user wrote."""

from __future__ import annotations

from oakladder.rung.problems import Problem, Span


class Reporter:
    """Writes problems down. Inside the library, ``blame`` says at which call they are put."""

    def __init__(self) -> None:
        self.found: dict[tuple[str, int, int], Problem] = {}
        self.blame: list[Span] = []

    def report(
        self,
        code: str,
        span: Span,
        message: str,
        fix: str = "",
        replacement: str | None = None,
        also: tuple[tuple[Span, str], ...] = (),
    ) -> None:
        """Writes a problem down once; inside the library, at the call that led there."""
        if self.blame:
            span, replacement, also = self.blame[-1], None, ()
        key = (code, span.line, span.column)
        self.found.setdefault(key, Problem(code, span, message, fix, replacement, also))
