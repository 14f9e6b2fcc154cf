"""How levels move: hits that jump, parts that vary, attacks against what follows, gates that flutter, steps that click."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from zygotone.dsp.types import FloatArray, Stereo
from zygotone.measure.loudness import step_levels_db

_RUN = 4  # steps of 100 ms
ATTACK_S, BODY_S = 0.012, (0.030, 0.120)


def hit_peaks_db(audio: Stereo, onsets: Sequence[int], rate_hz: int) -> FloatArray:
    """Peak of each hit in its first 60 ms, in dB, shape (hits,)."""
    magnitude = np.max(np.abs(audio), axis=0)
    width = round(0.06 * rate_hz)
    peaks = [float(np.max(magnitude[at : at + width], initial=0.0)) for at in onsets]
    return np.asarray(20.0 * np.log10(np.maximum(peaks, 1e-7)))


def attack_over_body_db(audio: Stereo, onsets: Sequence[int], rate_hz: int) -> float:
    """RMS of the first 12 ms of hits over that from 30 to 120 ms after them, the median, in dB; NaN without hits."""
    power = np.concatenate([[0.0], np.cumsum(np.sum(audio**2, axis=0))])
    last = len(power) - 1
    ratios = []
    for at in onsets:
        a, b = min(last, at), min(last, at + round(ATTACK_S * rate_hz))
        c, d = (min(last, at + round(s * rate_hz)) for s in BODY_S)
        if d > c and b > a:
            attack, body = (power[b] - power[a]) / (b - a), (power[d] - power[c]) / (d - c)
            if attack > 1e-12:
                ratios.append(10.0 * math.log10((attack + 1e-15) / (body + 1e-12)))
    return float(np.median(ratios)) if ratios else math.nan


def chatter_per_s(gain_db: FloatArray, onsets: Sequence[int], rate_hz: int) -> float:
    """How often a second a gate opens with no hit within 60 ms. gain_db (frames,), what the gate did."""
    lowest = float(gain_db.min(initial=0.0))
    if lowest > -3.0:
        return 0.0
    is_open = gain_db > 0.5 * max(lowest, -40.0)
    opens = np.flatnonzero(np.diff(is_open.astype(np.int8)) == 1)
    hits, near = np.sort(np.asarray(onsets, dtype=np.int64)), round(0.06 * rate_hz)
    if len(hits):
        at = np.searchsorted(hits, opens)
        before = np.abs(opens - hits[np.maximum(at - 1, 0)])
        after = np.abs(opens - hits[np.minimum(at, len(hits) - 1)])
        opens = opens[np.minimum(before, after) > near]
    return float(len(opens) * rate_hz / max(1, len(gain_db)))


def clicks(audio: Stereo, rate_hz: int) -> list[int]:
    """Frames where a single step stands far out of what lies around it: its second difference is over −50 dBFS, over 12 times the
    level that second differences have in the 5 ms on each side, and over 3 times any other within 60 ms. So the edges of a saw
    wave, which come back, are none, nor is a drum's beginning, which goes on."""
    from scipy.ndimage import maximum_filter1d

    found: list[int] = []
    width, apart, itself = max(8, round(0.005 * rate_hz)), round(0.06 * rate_hz), 4
    for channel in audio:
        bend = np.abs(np.diff(channel, 2))
        total = np.concatenate([[0.0], np.cumsum(bend**2)])
        at = np.flatnonzero(bend > 0.003)
        first, last = np.maximum(0, at - width), np.minimum(len(bend), at + width)
        near = np.maximum(first, at - itself + 1), np.minimum(last, at + itself)
        around = total[last] - total[first] - (total[near[1]] - total[near[0]])
        count = np.maximum(1, (last - first) - (near[1] - near[0]))
        stands_out = at[bend[at] > 12.0 * np.sqrt(np.maximum(0.0, around) / count) + 1e-9]
        if not len(stands_out):
            continue
        # The largest of the 60 ms before and after, what belongs to the step itself left out.
        largest = maximum_filter1d(bend, apart, mode="constant")
        before = largest[np.maximum(0, stands_out - itself - apart // 2)]
        after = largest[np.minimum(len(bend) - 1, stands_out + itself + apart // 2)]
        for each in stands_out[bend[stands_out] > 3.0 * np.maximum(before, after)].tolist():
            if not found or abs(each - found[-1]) > width:
                found.append(each)
    return sorted(found)


def spread_lu(audio: Stereo, rate_hz: int) -> float:
    """From the softest to the loudest tenth of 400 ms, K-weighted, of those in which it sounds throughout; NaN where there are not
    eight: short notes have no level that varies while they last."""
    steps = step_levels_db(audio, rate_hz)
    if len(steps) < _RUN:
        return math.nan
    heard = steps > np.quantile(steps, 0.95) - 20.0
    runs = np.lib.stride_tricks.sliding_window_view(heard, _RUN).all(axis=1)
    if runs.sum() < 8:
        return math.nan
    power = np.convolve(10.0 ** (steps / 10.0), np.ones(_RUN) / _RUN, mode="valid")[runs]
    low, high = np.quantile(power, [0.1, 0.9])
    return float(10.0 * math.log10(high / low))
