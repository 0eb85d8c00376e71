"""What the check lets pass runs: sound scripts changed here and there, and scripts put together at random."""

from __future__ import annotations

import random
import re
from collections.abc import Iterator
from dataclasses import dataclass
from importlib.resources import files

import numpy as np
import pytest

from helpers import random_bars
from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import resample
from oakladder.bars.timeframes import ONE_MINUTE, Timeframe
from oakladder.engine.picture.as_data import as_plain, day_paint
from oakladder.engine.picture.draw import draw
from oakladder.engine.run.execute import run
from oakladder.rung import ScriptError, compile_script, library
from oakladder.rung.program import unknown_symbols

PIECES = """close|high|sma(close, 9)|and|or|not|if|then|else|(|)|[|]|,|=|==|<|>|1d|on 1w|on 1h|none|5%|09:30|color|teal|when
let|line|signal|\n|    | |.|+|-|*|/|x|n|[1]|[-1]|0|1|2.5|-1|1e9|100000|yes|known(|max(|bar|clock|symbol|timeframe|tick_size
weekday|for k in 0..3|most 2|until|lasting 3 bars|ago 2|ago -1|size 3|width 0|of "TEST"|of symbol|top|bottom""".replace(
    "\n", "|"
).split("|")


def minutes() -> Bars:
    bars = random_bars(1, 60)
    first = bars.calendar.day_open(np.array([15_002]))[0]
    return Bars("TEST", ONE_MINUTE, bars.calendar, first + 60 * np.arange(60), bars.columns)


@dataclass(frozen=True)
class OneSymbol:
    """A market that has one symbol."""

    bars: Bars

    def other(self, symbol: str, timeframe: Timeframe) -> Panel:
        if symbol != self.bars.symbol:
            raise KeyError(symbol)
        return panel_of([resample(self.bars, timeframe)])

    def earlier(self, panel: Panel, timeframe: Timeframe) -> None:
        return None


def runs(text: str) -> bool:
    """Runs a script on minutes and draws it; False where the check does not let it pass."""
    try:
        program = compile_script(text)
    except ScriptError:
        return False
    if unknown_symbols(program.foreign, ["TEST"]):
        return False
    panel = panel_of([minutes()])
    panel.background = OneSymbol(panel.bars(0))
    assert as_plain(draw(run(program, panel), day_paint), 59)
    return True


def sound_scripts() -> list[str]:
    made = [p.read_text(encoding="utf-8") for p in files("oakladder").joinpath("demo", "scripts").iterdir()]
    for name in library.names():
        found = library.function(name)
        assert found is not None
        made += [
            f"rung 1\n{found.example}\n",
            f"rung 1\n{found.source}\n{found.example.replace(name, 'own_' + name)}\n",
        ]
    return made


def changed(text: str, rng: random.Random) -> str:
    """A script with one place changed, or two."""
    for _ in range(rng.choice([1, 1, 1, 2])):
        at, words, how = rng.randrange(len(text) + 1), text.split(" "), rng.random()
        if how < 0.25:
            text = text[:at] + text[at + rng.randint(1, 4) :]
        elif how < 0.6:
            words[rng.randrange(len(words))] = rng.choice(PIECES)
            text = " ".join(words)
        elif how < 0.75:
            text = text[:at] + rng.choice(PIECES) + text[at:]
        elif how < 0.85 and len(words) > 1:
            k = rng.randrange(len(words) - 1)
            words[k], words[k + 1] = words[k + 1], words[k]
            text = " ".join(words)
        elif numbers := list(re.finditer(r"\d+", text)):
            found = rng.choice(numbers)
            new = rng.choice(["0", "-1", "1", "2.5", "1000", "100000", "1000000", "99"])
            text = text[: found.start()] + new + text[found.end() :]
    return text


class Writer:
    """Writes scripts at random that mostly are sound."""

    def __init__(self, rng: random.Random):
        self.rng, self.numbers, self.flags = rng, ["close", "high", "low", "volume", "bar", "n"], ["extended"]

    def number(self, depth: int = 0) -> str:
        pick = self.rng.choice
        if depth > 2 or self.rng.random() < 0.25:
            return pick([*self.numbers, "1", "0.5", "20", "none", "clock", "tick_size", "weekday"])
        a, b, f = (lambda: self.number(depth + 1)), (lambda: self.number(depth + 1)), (lambda: self.flag(depth + 1))
        forms = [
            lambda: f"({a()} {pick(['+', '-', '*', '/', 'mod'])} {b()})",
            lambda: (
                f"{pick(['sma', 'ema', 'highest', 'lowest', 'sum', 'median', 'rsi', 'change', 'slope'])}({a()}, {pick(['n', '5', '2'])})"
            ),
            lambda: f"({a()})[{pick(['1', 'n', '0', '3'])}]",
            lambda: f"(if {f()} then {a()} else {b()})",
            lambda: f"({a()} else {b()})",
            lambda: f"{pick(['max', 'min'])}({a()}, {b()})",
            lambda: f"({a()}) on {pick(['5m', '1h', '1d', '1w'])}{pick(['', ' forming'])}",
            lambda: f'({a()}) of "TEST"',
            lambda: f"{pick(['age', 'streak'])}({f()})",
            lambda: f"{pick(['latch', 'highest_since'])}({f()}, {a()})",
            lambda: pick(
                ["bollinger(close, 5).upper", "macd(close, 3, 6, 2).gap", "opening_range(5).high", "vwap(1h)"]
            ),
        ]
        return pick(forms)()

    def flag(self, depth: int = 0) -> str:
        pick = self.rng.choice
        if depth > 2 or self.rng.random() < 0.15:
            return pick([*self.flags, "yes", "no", "new(1h)", "close > open"])
        a, b, f, g = (
            lambda: self.number(depth + 1),
            lambda: self.number(depth + 1),
            lambda: self.flag(depth + 1),
            lambda: self.flag(depth + 1),
        )
        forms = [
            lambda: f"({a()} {pick(['<', '<=', '>', '>=', '==', '!='])} {b()})",
            lambda: f"({f()} {pick(['and', 'or'])} {g()})",
            lambda: f"(not {f()})",
            lambda: f"known({a()})",
            lambda: f"{pick(['crosses_up', 'crosses_down'])}({a()}, {b()})",
            lambda: f"{pick(['starts', 'ends'])}({f()})",
            lambda: f"any({f()}, 4)",
            lambda: f"({a()} between 1 and {b()})",
        ]
        return pick(forms)()

    def script(self) -> str:
        pick, lines = self.rng.choice, ["rung 1", "setting n = 3 range 1..9"]
        for k in range(self.rng.randint(1, 4)):
            what = self.rng.random()
            if what < 0.4:
                lines.append(f"let a{k} = {self.number()}")
                self.numbers.append(f"a{k}")
            elif what < 0.6:
                lines.append(f"let f{k} = {self.flag()}")
                self.flags.append(f"f{k}")
            elif what < 0.8:
                lines += [f"let w{k} = {self.number()}", f"keep k{k} = {pick(['0', 'none'])}", f"if {self.flag()}"]
                lines.append(f"    set k{k} = w{k} + {pick(['1', f'(k{k} else 0)'])}")
                self.numbers.append(f"k{k}")
            else:
                lines += [f"fresh t{k} = 0", f"for i in 0..{pick(['2', 'n'])}", f"    set t{k} = t{k} + close[i]"]
                self.numbers.append(f"t{k}")
        outputs = [
            lambda: f"line {self.number()} color if {self.flag()} then good else bad",
            lambda: f"signal s{len(lines)} = {self.flag()} bullish",
            lambda: f"mark {self.flag()} at {self.number()} size {pick(['1', '3'])} ago {pick(['0', 'n'])}",
            lambda: f'label "{{{self.number()}:.2}}" when {self.flag()}',
            lambda: (
                f"zone {self.number()} to {self.number()} when {self.flag()} until close < bottom or age > 9 most 4"
            ),
            lambda: f"link {self.number()} ago 2 to {self.number()} when {self.flag()}",
            lambda: f"histogram {self.number()} base {self.number()}",
            lambda: f'column "{{{self.number()}}}" fill warn when {self.flag()} order {self.number()}',
            lambda: f'lane "A" color blend(good, bad, {self.number()}) when {self.flag()}',
        ]
        lines += [pick(outputs)() for _ in range(self.rng.randint(1, 3))]
        return "\n".join(lines) + "\n"


def mutated(seed: int, count: int) -> Iterator[str]:
    rng, sound = random.Random(seed), sound_scripts()
    return (changed(rng.choice(sound), rng) for _ in range(count))


def generated(seed: int, count: int) -> Iterator[str]:
    return (Writer(random.Random(seed + k)).script() for k in range(count))


def test_changed_scripts_that_pass_the_check_run() -> None:
    assert sum(map(runs, mutated(1, 600))) > 10


def test_scripts_put_together_at_random_run() -> None:
    assert sum(map(runs, generated(1, 60))) > 30


@pytest.mark.nightly
@pytest.mark.parametrize("part", range(4))
def test_many_changed_scripts_that_pass_the_check_run(part: int) -> None:
    assert sum(map(runs, mutated(100 + part, 5_000))) > 200


@pytest.mark.nightly
@pytest.mark.parametrize("part", range(4))
def test_many_scripts_put_together_at_random_run(part: int) -> None:
    assert sum(map(runs, generated(10_000 * (part + 1), 800))) > 400
