"""The pitch tracker that other measurements of pitch are checked with: "YIN", de Cheveigné and Kawahara, J. Acoust. Soc. Am. 111,
2002, equations 6 (difference), 8 (its cumulative mean) and steps 4 and 5 (threshold, parabola). Nothing of it is shared with ours.
"""

from __future__ import annotations

import numpy as np
from scipy.signal import correlate

WINDOW_S = 0.07
HOP_S = 0.045


def pitches_hz(x: np.ndarray, rate_hz: int, low_hz: float, high_hz: float, *, threshold: float = 0.2) -> np.ndarray:
    """Pitch of each window of ``x`` (frames,) that has one between two frequencies, shape (windows with a pitch,)."""
    longest, window = int(rate_hz / low_hz) + 2, round(WINDOW_S * rate_hz)
    starts = range(0, len(x) - window - longest, round(HOP_S * rate_hz))
    found = (_lag(x[at : at + window + longest], window, longest, int(rate_hz / high_hz), threshold) for at in starts)
    return np.array([rate_hz / lag for lag in found if lag is not None])


def _lag(x: np.ndarray, window: int, longest: int, shortest: int, threshold: float) -> float | None:
    """Frames from one period to the next, between two lags; None where the window does not repeat itself."""
    energy = np.concatenate([[0.0], np.cumsum(x * x)])
    lags = np.arange(longest + 1)
    difference = energy[window] + energy[lags + window] - energy[lags] - 2.0 * correlate(x, x[:window], "valid")
    mean = np.ones(longest + 1)
    mean[1:] = difference[1:] * lags[1:] / np.maximum(np.cumsum(difference[1:]), 1e-30)
    dips = np.flatnonzero((mean[1:-1] < threshold) & (mean[1:-1] <= mean[:-2]) & (mean[1:-1] < mean[2:])) + 1
    dips = dips[dips >= shortest]
    if not len(dips):
        return None
    at = int(dips[0])
    before, here, after = difference[at - 1 : at + 2]
    return at + 0.5 * (before - after) / (before - 2.0 * here + after)
