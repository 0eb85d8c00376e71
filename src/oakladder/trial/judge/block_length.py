"""How long the blocks of a bootstrap must be so that what belongs together stays together."""

from __future__ import annotations

import math

import numpy as np

#: The autocorrelations that count as noise are below so many of their standard errors (Politis and White, 2004: c = 2).
_ERRORS = 2.0


def block_length(values: np.ndarray) -> float:
    """The mean length of the blocks of a stationary bootstrap, by the autocorrelation of the values: Politis and White (2004),
    with the correction of Patton, Politis and White (2009); at least 1, at most 3 roots of the number of values or a third of
    them. Shape (values,), float64."""
    count = len(values)
    away = values - values.mean() if count else values
    if count < 4 or not float(away @ away) > 0:
        return 1.0
    many = max(5, math.ceil(math.sqrt(math.log10(count))))
    longest = min(math.ceil(math.sqrt(count)) + many, count - 1)
    size = 1 << (2 * count - 1).bit_length()
    transformed = np.fft.rfft(away, size)
    covariance = np.fft.irfft(transformed * np.conj(transformed), size)[: longest + 1] / count
    correlation = np.abs(covariance / covariance[0])
    noise = correlation[1:] < _ERRORS * math.sqrt(math.log10(count) / count)
    # The first lag from which on so many in a row are noise; otherwise the last that is not.
    runs = [m for m in range(len(noise)) if noise[m : m + many].all() and m + many <= len(noise)]
    loud = np.flatnonzero(~noise)
    last = runs[0] if runs else int(loud[-1]) + 1 if len(loud) else 1
    reach = min(2 * max(last, 1), longest)
    lags = np.arange(-reach, reach + 1)
    weights = np.minimum(1.0, 2 * (1 - np.abs(lags) / reach))  # flat, then falling to nothing
    covariances = covariance[np.abs(lags)]
    spectrum = float(weights @ covariances)
    slope = float((weights * np.abs(lags)) @ covariances)
    if not spectrum > 0:
        return 1.0
    length = (slope**2 / spectrum**2) ** (1 / 3) * count ** (1 / 3)
    return float(min(max(length, 1.0), math.ceil(min(3 * math.sqrt(count), count / 3))))
