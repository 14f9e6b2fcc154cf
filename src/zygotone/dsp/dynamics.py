"""Level detection and gain computers.

Conventions
-----------
Levels and gains are in dB. A gain reduction is negative. Time constants are the time to 63.2 % of a step.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.decibels import db_to_gains, levels_to_db
from zygotone.dsp.memory import Memory
from zygotone.dsp.sliding import SlidingMaximum
from zygotone.dsp.types import FloatArray, IntArray, Stereo

_TILE = 256  # frames worked on at a time, so that what is between stays in the nearest cache


@kernel
def loudest_side(x: Stereo, level: FloatArray) -> None:
    """Larger magnitude of both channels. x (2, n), level (n,)."""
    first, second = x[0], x[1]
    for i in range(level.shape[0]):
        left, right = abs(first[i]), abs(second[i])
        level[i] = left if left > right else right


@kernel
def rms_level(x: Stereo, ring: FloatArray, total: FloatArray, level: FloatArray) -> None:
    """Root of the mean power of both channels over the last ``ring`` frames.

    x (2, n); ring (window + 1,): powers, then the write position; total (1,); level (n,), linear.
    """
    window = ring.shape[0] - 1
    pos = int(ring[window])
    acc = total[0]
    for i in range(x.shape[1]):
        power = 0.5 * (x[0, i] * x[0, i] + x[1, i] * x[1, i])
        acc += power - ring[pos]
        ring[pos] = power
        pos += 1
        if pos == window:  # once a turn the sum is made afresh, so that rounding cannot pile up
            pos = 0
            acc = 0.0
            for k in range(window):
                acc += ring[k]
        level[i] = math.sqrt(max(acc, 0.0) / window)
    ring[window] = pos
    total[0] = acc


class Level(Memory):
    """A detector with its memory: peak or RMS, both channels linked.

    The peak is the largest magnitude over a short window, so that a steady tone reads as its steady peak
    and not as a ripple. The window delays the fall by its length; ``release_s`` tells how much to take off.
    """

    remembers = ("_powers_state", "_total_state")

    def __init__(
        self,
        kind: str,
        *,
        attack_s: float,
        release_s: float,
        sample_rate_hz: float,
        hold_s: float | None = None,
        rms_s: float = 0.0,
    ) -> None:
        """``hold_s`` is the window of the peak, and ``rms_s`` above 0 that of the mean power, where they are to be other than
        the usual ones."""
        if hold_s is not None:
            window_s = hold_s
        elif kind == "rms":
            window_s = rms_s if rms_s > 0.0 else min(0.010, max(0.001, 0.2 * attack_s), 0.25 * release_s)
        else:
            # Half a period of 50 Hz, or a quarter of the release if that is shorter.
            window_s = min(0.010, 0.25 * release_s)
        window = max(1, round(window_s * sample_rate_hz))
        self.release_s = max(0.0, release_s - window / sample_rate_hz)
        self._rms = kind == "rms"
        self._powers_state = np.zeros(window + 1)
        self._peak = SlidingMaximum(window)
        self._total_state = np.zeros(1)

    def adopt(self, older: Any) -> bool:
        """A window of another length begins with the mean power that the older one has."""
        whole = bool(self._peak.adopt(older._peak))
        if not super().adopt(older):
            window = len(self._powers_state) - 1
            power = max(0.0, float(older._total_state[0])) / (len(older._powers_state) - 1)
            self._powers_state[:window], self._powers_state[window] = power, 0.0
            self._total_state[0] = window * power
        return whole

    def process(self, x: FloatArray) -> FloatArray:
        """x (2, n) to linear level (n,)."""
        level = np.empty(x.shape[1])
        if self._rms:
            rms_level(x, self._powers_state, self._total_state, level)
            return level
        loudest_side(x, level)
        return self._peak.process(level)


@kernel
def _static_reduction(level_db: float, threshold_db: float, ratio: float, knee_db: float) -> float:
    """Gain in dB; the knee is a parabola, and what lies over it a straight line. Without branches, to vectorise."""
    slope = 1.0 / ratio - 1.0
    within = level_db - threshold_db + 0.5 * knee_db
    above = within - knee_db
    above = above if above > 0.0 else 0.0
    within = within if within > 0.0 else 0.0
    within = within if within < knee_db else knee_db
    return slope * (within * within * (0.5 / max(knee_db, 1e-9)) + above)


def static_curve(level_db: FloatArray, *, threshold_db: float, ratio: float, knee_db: float) -> FloatArray:
    """Output level for a steady input level (Giannoulis, Massberg and Reiss 2012, eq. 4). Any shape."""
    flat = np.atleast_1d(np.asarray(level_db, dtype=np.float64))
    out = [v + _static_reduction(v, threshold_db, ratio, knee_db) for v in flat.ravel()]
    return np.array(out).reshape(np.shape(level_db))


@kernel
def _follow(target: FloatArray, attack: float, release: float, g: float, gain_db: FloatArray) -> float:
    """gain_db (n,) goes to ``target`` (n,) by ``attack`` where that is lower and by ``release`` where it is higher, from g on,
    which is returned as it is then. What is all but 0 dB is exactly that.

    Both are worked out: the one that is wanted is the lower of them, whichever way it goes, or where attack is the slower one
    the higher. A frame then waits for the one before half as long as it would if it had to ask first.
    """
    quick = attack <= release
    falls, rises = np.empty(target.shape[0]), np.empty(target.shape[0])
    for i in range(target.shape[0]):  # by itself, so that there is one way only to round a product with its sum
        falls[i], rises[i] = (1.0 - attack) * target[i], (1.0 - release) * target[i]
    for i in range(target.shape[0]):
        down, up = falls[i] + attack * g, rises[i] + release * g
        g = (down if down < up else up) if quick else (down if down > up else up)
        gain_db[i] = g if abs(g) >= 1e-9 else 0.0
    return g if abs(g) > 1e-30 else 0.0


@kernel
def compress(
    level: FloatArray,
    threshold_db: float,
    ratio: float,
    knee_db: float,
    range_db: float,
    attack: float,
    release: float,
    state: FloatArray,
    gain_db: FloatArray,
) -> None:
    """Gain computer in the log domain with smooth branching (Giannoulis et al. 2012, eq. 4 and 16).

    level (n,), linear; attack and release one-pole coefficients; state (1,) the smoothed reduction in dB;
    gain_db (n,) is written.
    """
    g = state[0]
    target = np.empty(_TILE)
    for at in range(0, level.shape[0], _TILE):
        width = min(_TILE, level.shape[0] - at)
        levels_to_db(level[at : at + width], target[:width])
        for i in range(width):
            over = _static_reduction(target[i], threshold_db, ratio, knee_db)
            target[i] = over if over > -range_db else -range_db
        g = _follow(target[:width], attack, release, g, gain_db[at : at + width])
    state[0] = g


@kernel
def keyed_gain(
    level: FloatArray,
    threshold_db: float,
    range_db: float,
    attack: float,
    release: float,
    state: FloatArray,
    gain_db: FloatArray,
) -> None:
    """Moves 1 dB for each dB over the threshold, up to ``range_db`` (either sign). Arrays as in ``compress``; what is
    remembered has its sign, so that a cut stays a cut when the range becomes a boost, and goes over 0 dB from there."""
    g = state[0]
    span, sign = abs(range_db), 1.0 if range_db >= 0.0 else -1.0
    foot = 10.0 ** (threshold_db / 20.0)
    for i in range(level.shape[0]):
        target = 0.0
        if level[i] > foot:
            target = sign * min(span, 20.0 * math.log10(level[i] / foot))
        c = attack if target * g < 0.0 or abs(target) > abs(g) else release
        g = target + c * (g - target)
        if abs(g) < 1e-9:
            g = 0.0
        gain_db[i] = g
    state[0] = g


@kernel
def two_way_gain(
    level: FloatArray,
    threshold_db: float,
    ratio: float,
    up_threshold_db: float,
    up_ratio: float,
    knee_db: float,
    most_down_db: float,
    most_up_db: float,
    attack: float,
    release: float,
    state: FloatArray,
    gain_db: FloatArray,
) -> None:
    """Down above one threshold and up below another, by their ratios. Arrays as in ``compress``.

    Both have the knee. Turning up ends at ``most_up_db`` and fades out below −80 dB, so that silence stays silence.
    """
    g = state[0]
    target = np.empty(_TILE)
    for at in range(0, level.shape[0], _TILE):
        width = min(_TILE, level.shape[0] - at)
        levels_to_db(level[at : at + width], target[:width])
        for i in range(width):
            db = target[i]
            down = _static_reduction(db, threshold_db, ratio, knee_db)
            down = down if down > -most_down_db else -most_down_db
            up = -_static_reduction(-db, -up_threshold_db, up_ratio, knee_db)
            fade = min(1.0, max(0.0, 0.05 * (db + 100.0)))
            up = (up if up < most_up_db else most_up_db) * fade
            target[i] = down if down < 0.0 else up
        g = _follow(target[:width], attack, release, g, gain_db[at : at + width])
    state[0] = g


@kernel
def keep_furthest(gain_db: FloatArray, furthest: FloatArray) -> None:
    """In place: of two gains (n,) the one that is further from 0 dB."""
    for i in range(gain_db.shape[0]):
        furthest[i] = gain_db[i] if abs(gain_db[i]) > abs(furthest[i]) else furthest[i]


@kernel
def gate_gain(
    level: FloatArray,
    open_db: float,
    close_db: float,
    floor_db: float,
    attack: float,
    release: float,
    hold: int,
    state: FloatArray,
    gain_db: FloatArray,
) -> None:
    """Opens above ``open_db``, closes once the level has been below ``close_db`` for ``hold`` frames.

    Arrays as in ``compress``; state (3,): gain in dB, whether it is open, frames of hold left.
    """
    g, is_open, left = state[0], state[1] > 0.0, state[2]
    opens, closes = 10.0 ** (open_db / 20.0), 10.0 ** (close_db / 20.0)
    for i in range(level.shape[0]):
        if level[i] >= opens:
            is_open = True
        if is_open:
            if level[i] >= closes:
                left = float(hold)
            elif left > 0.0:
                left -= 1.0
            else:
                is_open = False
        target = 0.0 if is_open else floor_db
        c = attack if target > g else release
        g = target + c * (g - target)
        if abs(g - target) < 1e-6:
            g = target
        gain_db[i] = g
    state[0], state[1], state[2] = g, 1.0 if is_open else 0.0, left


@kernel
def duck_curve(marks: IntArray, curve: FloatArray, settle: float, state: FloatArray, gain_db: FloatArray) -> None:
    """gain_db (n,): ``curve`` (dB a frame, its last value held) begun anew at each mark, smoothed by ``settle``.

    marks (n,); state (2,): frames since the last mark, gain.
    """
    since, g = state[0], state[1]
    last = curve.shape[0] - 1
    for i in range(marks.shape[0]):
        if marks[i]:
            since = 0.0
        target = curve[min(last, int(since))]
        since = min(since + 1.0, 1e9)
        g = target + settle * (g - target)
        if abs(g) < 1e-9:
            g = 0.0
        gain_db[i] = g
    state[0], state[1] = since, g


@kernel
def transient_gain(
    level: FloatArray,
    attack_db: float,
    sustain_db: float,
    rise: float,
    fall: float,
    settle: float,
    state: FloatArray,
    gain_db: FloatArray,
) -> None:
    """Gain from the distance of a quick and a slow follower of the level in dB.

    The slow one rises with ``rise`` and the long one falls with ``fall`` (one-pole coefficients); 12 dB of
    distance is the full effect. ``settle`` smooths the gain. state (4,): slow, long, gain, started.
    """
    slow, long, g = state[0], state[1], state[2]
    for i in range(level.shape[0]):
        now = 20.0 * math.log10(max(level[i], 1e-4))  # −80 dB counts as silence
        slow = now + rise * (slow - now) if now > slow else now
        long = now + fall * (long - now) if now < long else now
        target = attack_db * min(1.0, (now - slow) / 12.0) + sustain_db * min(1.0, (long - now) / 12.0)
        g = target + settle * (g - target)
        gain_db[i] = g
    state[0], state[1], state[2] = slow, long, g


@kernel
def apply_gain_db(x: Stereo, gain_db: FloatArray, y: Stereo) -> None:
    """x and y (2, n), gain_db (n,); 0 dB leaves the samples untouched to the last bit."""
    gain = np.empty(_TILE)
    for at in range(0, x.shape[1], _TILE):
        width = min(_TILE, x.shape[1] - at)
        db_to_gains(gain_db[at : at + width], gain[:width])
        for c in range(2):
            part, out = x[c, at : at + width], y[c, at : at + width]
            for i in range(width):
                out[i] = gain[i] * part[i]


@kernel
def add_scaled_db(x: Stereo, part: Stereo, gain_db: FloatArray) -> None:
    """In place: x += (gain − 1)·part. x and part (2, n), gain_db (n,)."""
    gain = np.empty(_TILE)
    for at in range(0, x.shape[1], _TILE):
        width = min(_TILE, x.shape[1] - at)
        db_to_gains(gain_db[at : at + width], gain[:width])
        for c in range(2):
            out, more = x[c, at : at + width], part[c, at : at + width]
            for i in range(width):
                out[i] += (gain[i] - 1.0) * more[i]


@kernel
def is_finite(x: Stereo) -> bool:
    """Whether all of x (2, n) is finite. No may also mean that its sum is not; then a closer look is due."""
    total = 0.0
    for c in range(x.shape[0]):
        row = x[c]
        whole = row.shape[0] - row.shape[0] % 8
        s0, s1, s2, s3, s4, s5, s6, s7 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for i in range(0, whole, 8):  # eight sums that do not wait for each other
            s0, s1, s2, s3 = s0 + row[i], s1 + row[i + 1], s2 + row[i + 2], s3 + row[i + 3]
            s4, s5, s6, s7 = s4 + row[i + 4], s5 + row[i + 5], s6 + row[i + 6], s7 + row[i + 7]
        total += ((s0 + s1) + (s2 + s3)) + ((s4 + s5) + (s6 + s7))
        for i in range(whole, row.shape[0]):
            total += row[i]
    return math.isfinite(total)


@kernel
def replace_not_finite(x: Stereo) -> int:
    """In place: NaN and infinity become 0. x (2, n). Returns how many there were."""
    bad = 0
    for c in range(x.shape[0]):
        for i in range(x.shape[1]):
            if not math.isfinite(x[c, i]):
                x[c, i] = 0.0
                bad += 1
    return bad
