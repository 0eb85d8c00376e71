"""The Sharpe ratio with a discount for tries: of many rules one shines by luck."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from statistics import NormalDist

import numpy as np

from oakladder.trial.metrics.metrics import session_returns
from oakladder.trial.trial import Trial

#: Euler's constant.
_GAMMA = 0.5772156649015329
_NORMAL = NormalDist()


@dataclass(frozen=True, slots=True)
class Returns:
    """What the formulas need of a curve's returns from session to session: their Sharpe ratio (of one session, not of a
    year), number, skewness, kurtosis (3 for a normal law) and sessions a year."""

    sharpe: float
    count: int
    skewness: float
    kurtosis: float
    a_year: float


def returns_of(trial: Trial) -> Returns | None:
    """The returns of a trial's curve; None where no Sharpe ratio is defined."""
    found = session_returns(trial.equity)
    if found is None:
        return None
    returns, a_year = found
    deviation = float(returns.std(ddof=1))
    if deviation <= 1e-15:
        return None
    # The moments of the sample, without corrections for its size.
    away = returns - returns.mean()
    spread = float((away**2).mean())
    skewness, kurtosis = float((away**3).mean()) / spread**1.5, float((away**4).mean()) / spread**2
    return Returns(float(returns.mean()) / deviation, len(returns), skewness, kurtosis, a_year)


def luck(tries: int, variance: float) -> float:
    """The Sharpe ratio that the best of so many rules without any merit shows: sqrt(V) ((1 - g) Z(1 - 1/N) + g Z(1 - 1/(N e))),
    g Euler's constant and Z the inverse of the normal law (Bailey and Lopez de Prado, 2014, equation 1). ``variance`` is
    that of the tries' ratios, in the units of the result squared; 0 for a single try."""
    if tries < 2 or variance <= 0:
        return 0.0
    high, higher = (_NORMAL.inv_cdf(1 - 1 / n) for n in (tries, tries * math.e))
    return math.sqrt(variance) * ((1 - _GAMMA) * high + _GAMMA * higher)


def deflated(returns: Returns, tries: int, variance: float) -> float:
    """The probability that a Sharpe ratio is above what luck gives to the best of so many tries: the deflated Sharpe ratio,
    Z((SR - SR0) sqrt(T - 1) / sqrt(1 - skew SR + (kurtosis - 1) / 4 SR^2)) (Bailey and Lopez de Prado, 2014, equation 2)."""
    sharpe = returns.sharpe
    spread = 1 - returns.skewness * sharpe + (returns.kurtosis - 1) / 4 * sharpe**2
    if spread <= 0 or returns.count < 2:
        return math.nan
    return _NORMAL.cdf((sharpe - luck(tries, variance)) * math.sqrt(returns.count - 1) / math.sqrt(spread))


@dataclass(frozen=True, slots=True)
class DeflatedSharpe:
    """A Sharpe ratio (of a year) before and after the discount for so many tries, and the probability that it is more
    than luck."""

    sharpe: float
    luck: float
    probability: float
    tries: int
    #: The ratios (of a year) of all tries whose ratio is known, this one among them.
    others: np.ndarray = field(default_factory=lambda: np.zeros(0), compare=False)

    def as_plain(self) -> dict[str, float]:
        """As it is written in JSON."""
        return {
            "tries": self.tries,
            "sharpe": self.sharpe,
            "luck": self.luck,
            "discounted": self.discounted,
            "probability": self.probability,
        }

    @property
    def discounted(self) -> float:
        """The Sharpe ratio after the deduction for luck."""
        return self.sharpe - self.luck

    def words(self) -> str:
        """What it comes to, in a sentence."""
        if self.tries < 2:
            return f"Sharpe ratio {self.sharpe:.2f}, the first try of this rule: no deduction for luck."
        return (
            f"Sharpe ratio {self.sharpe:.2f}; the best of {self.tries:,} tries without any merit would show {self.luck:.2f}, "
            f"which leaves {self.discounted:.2f}. It is more than luck with a probability of {self.probability:.0%}."
        )


def deflate(returns: Returns, of_tries: Sequence[float]) -> DeflatedSharpe:
    """The discount for the tries of a rule, by their Sharpe ratios (of a year, NaN where one has none; this one is among
    them)."""
    known = np.array([s for s in of_tries if math.isfinite(s)])
    tries, year = max(len(of_tries), 1), math.sqrt(returns.a_year)
    # One rule without merit varies by about 1/T over histories as long as this: tries that were all alike are no excuse.
    least = 1 / max(returns.count, 1) if tries > 1 else 0.0
    variance = max(float((known / year).var(ddof=1)) if len(known) > 1 else 0.0, least)
    probability = deflated(returns, tries, variance)
    return DeflatedSharpe(returns.sharpe * year, luck(tries, variance) * year, probability, tries, known)
