"""Pitch moved in the spectrum: peaks are shifted whole, each with the phases around it.

J. Laroche and M. Dolson, "New phase-vocoder techniques for pitch-shifting, harmonizing and other exotic effects", 1999:
around each peak of a short spectrum the bins are moved together, and turned by the phase that the new frequency gains
from frame to frame. Formants are held by the *true envelope*, which rests on the peaks of the spectrum and does not dip
between them (A. Röbel and X. Rodet, "Efficient spectral envelope estimation and its application to pitch shifting and
envelope preservation", DAFx 2005: the cepstrum is smoothed, and what lies over it kept, over and over).

A hit begins a stretch of its own: no frame looks from one stretch into another, so that nothing of a hit is heard before it,
and its phases are those it came with (in the spirit of A. Röbel, "A new approach to transient processing in the phase
vocoder", DAFx 2003).
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.memory import Memory
from zygotone.dsp.onsets import Onsets
from zygotone.dsp.types import FloatArray, IntArray, Stereo

FRAME, QUICK_FRAME = 4096, 1024
_OVERLAP = 4
_POOLED = 8  # bins that the envelope takes as one
# Hits are noticed up to so much later than they begin.
_NOTICED_S = 0.0015
_ENVELOPE_ROUNDS = 6
_LEVEL_S, _MOST_GAIN = 0.015, 2.5
# Of a hit so much passes unmoved, and until then it has gone over into what is moved: an attack has no pitch.
_THROUGH_S = (0.005, 0.012)
# What holding formants may do to a part of the spectrum: enough for any voice, and too little to hollow a sound out whose
# envelope is no more than its one partial.
_MOST_NEPERS = 18.0 / 8.686


# A peak is larger than so many bins on either side: the side lobes of the window, two bins apart, are none.
_APART = 4


@kernel
def _peaks(magnitude: FloatArray, peaks: IntArray) -> int:
    """Where the peaks of magnitude (bins,) are, in their order, into peaks (bins // _APART + 1,); how many there are."""
    found, last = 0, magnitude.shape[0] - _APART
    k = 1
    while k < last:
        m = magnitude[k]
        ahead = 1  # the first bin above that is larger: none before it is a peak
        while ahead <= _APART and magnitude[k + ahead] <= m:
            ahead += 1
        if ahead > _APART:
            below = max(0, k - _APART)
            while below < k and magnitude[below] < m:
                below += 1
            if below == k and m > 0.0:
                peaks[found] = k
                found += 1
            ahead = 1
        k += ahead
    return found


@kernel
def _magnitudes(spectrum: npt.NDArray[np.complex128], magnitude: FloatArray, pooled: FloatArray) -> None:
    """Of spectrum (bins,): magnitude (bins,), and pooled ((bins − 1) / _POOLED + 1,): the largest of so many neighbours each,
    and the last."""
    for k in range(spectrum.shape[0]):
        magnitude[k] = math.sqrt(spectrum[k].real * spectrum[k].real + spectrum[k].imag * spectrum[k].imag)
    last = pooled.shape[0] - 1
    for m in range(last):
        group, top = magnitude[m * _POOLED : (m + 1) * _POOLED], 0.0
        for k in range(_POOLED):
            top = group[k] if group[k] > top else top
        pooled[m] = top
    pooled[last] = magnitude[magnitude.shape[0] - 1]


@kernel
def shift_peaks(
    spectrum: npt.NDArray[np.complex128],
    magnitude: FloatArray,
    ratio: float,
    hop_turn: float,
    turned: FloatArray,
    scale: FloatArray,
    out: npt.NDArray[np.complex128],
) -> None:
    """spectrum and out (bins,) complex, magnitude (bins,) that of the spectrum; turned (bins,) the phase so far gained at each
    place; scale (bins,) is what each bin of ``out`` is multiplied by. ``hop_turn`` is 2π·hop/frame, the phase of one bin over one hop.
    """
    bins = spectrum.shape[0]
    for k in range(bins):
        out[k] = 0.0
    before = turned.copy()
    peaks = np.empty(bins // _APART + 1, dtype=np.int64)
    found = _peaks(magnitude, peaks)
    begin, filled, last = 0, -1, 0.0
    for p in range(found):
        peak = peaks[p]
        # Its region ends at the lowest bin before the following peak.
        end = bins
        if p + 1 < found:
            lowest = peak + 1
            for k in range(peak + 2, peaks[p + 1]):
                if magnitude[k] < magnitude[lowest]:
                    lowest = k
            end = lowest + 1
        # Where the peak truly lies, by a parabola through the logarithm.
        a = math.log(max(magnitude[peak - 1], 1e-30))
        b = math.log(max(magnitude[peak], 1e-30))
        c = math.log(max(magnitude[peak + 1], 1e-30))
        bend = a - 2.0 * b + c
        place = peak + (0.5 * (a - c) / bend if bend < 0.0 else 0.0)
        moved = (ratio - 1.0) * place
        whole = math.floor(moved + 0.5)
        target = peak + whole
        if 0 <= target < bins:
            angle = before[target] + hop_turn * moved
            angle -= 2.0 * math.pi * math.floor(angle / (2.0 * math.pi))
            turn = complex(math.cos(angle), math.sin(angle))
            # What would be below 0 Hz or beyond half the sample rate is gone.
            first, stop = max(begin, -whole), min(end, bins - whole)
            place_of, part, gains = (
                out[first + whole : stop + whole],
                spectrum[first:stop],
                scale[first + whole : stop + whole],
            )
            for n in range(stop - first):
                place_of[n] += part[n] * turn * gains[n]
            # Up to halfway to the peak below, the phase is this peak's; regions may overlap, their middles do not.
            middle = (filled + target) // 2 if filled >= 0 else 0
            for n in range(max(0, filled), middle):
                turned[n] = last
            for n in range(middle, target + 1):
                turned[n] = angle
            filled, last = target, angle
        begin = end
    for n in range(max(0, filled), bins):
        turned[n] = last


@kernel
def _between(line: FloatArray, at: float) -> float:
    """A line of points (n,) at a place between them; beyond its last point it stays."""
    below = min(int(at), line.shape[0] - 2)
    return float(line[below] + min(at - below, 1.0) * (line[below + 1] - line[below]))


@kernel
def _move_formants(envelope: FloatArray, formants: float, ratio: float, scale: FloatArray) -> None:
    """What each bin of what was moved by ``ratio`` is multiplied by, scale (bins,), so that its envelope is ``envelope`` (pooled
    bins,), in nepers, moved by ``formants`` instead."""
    after = 0.0
    for m in range(envelope.shape[0]):
        nepers = _between(envelope, m / formants) - _between(envelope, m / ratio)
        before, after = after, math.exp(min(_MOST_NEPERS, max(-_MOST_NEPERS, nepers)))
        if m > 0:  # the steps between are small enough for a straight line between the gains themselves
            group = scale[(m - 1) * _POOLED : m * _POOLED]
            for k in range(_POOLED):
                group[k] = before + (k / _POOLED) * (after - before)
    scale[scale.shape[0] - 1] = after


def _energy(signal: FloatArray) -> float:
    """The sum of squares of (frames,)."""
    return float(np.dot(signal, signal))


def true_envelope(magnitude: FloatArray, lifter: int) -> FloatArray:
    """Smooth envelopes of magnitude spectra (..., bins) over their peaks, in nepers; ``lifter`` cepstral coefficients."""
    floor = 1e-9 * np.max(magnitude, axis=-1, keepdims=True) + 1e-12
    target = np.log(np.maximum(magnitude, floor))
    envelope = target
    for _ in range(_ENVELOPE_ROUNDS):
        cepstrum = np.fft.irfft(np.maximum(target, envelope))
        cepstrum[..., lifter:-lifter] = 0.0
        envelope = np.fft.rfft(cepstrum).real
    return np.asarray(envelope)


class PitchShifter(Memory):
    """Stereo audio at another pitch; left and right keep their phases to each other by sharing the peaks of neither:
    mid and side are shifted apart, and a mono signal stays mono. Latency is one frame.

    Each frame leaves with the energy it came with, so that no pitch and no formant changes the level.
    """

    remembers = (
        "_in_state",
        "_out_state",
        "_norm_state",
        "_turned_state",
        "_fill_state",
        "_marks_state",
        "_level_state",
    )

    def __init__(self, ratio: float, formant_ratio: float | None, sample_rate_hz: int, *, frame: int = FRAME) -> None:
        """``formant_ratio`` moves the formants of the input; at 1 they stay, and with None they go along with the pitch."""
        self.latency = self._frame_size = frame
        self._hop = frame // _OVERLAP
        self._n_fft = (
            2 * frame
        )  # zeros behind the frame: bins half as wide, so that a peak is moved nearer to its place
        self._ratio = ratio
        self._formants = ratio if formant_ratio is None else formant_ratio
        self._lifter = max(8, round(sample_rate_hz / 700.0))
        self._window = np.sqrt(0.5 - 0.5 * np.cos(2.0 * np.pi * np.arange(frame) / frame))
        self._early = round(_NOTICED_S * sample_rate_hz)
        self._onsets = Onsets(sample_rate_hz)
        self._in_state = np.zeros((2, frame))
        self._out_state = np.zeros((2, frame))
        self._norm_state = np.zeros(frame)
        self._marks_state = np.zeros(frame, dtype=np.int64)  # where in the frame hits begin
        self._turned_state = np.zeros((2, self._n_fft // 2 + 1))
        self._fill_state = np.zeros(1, dtype=np.int64)
        # Energy of late that came in and that was made, the gain between them, and the frames since the last hit.
        self._level_state = np.array([0.0, 0.0, 1.0, 1e9])
        self._through = tuple(seconds * sample_rate_hz for seconds in _THROUGH_S)
        self._level_fade = math.exp(-self._hop / (_LEVEL_S * sample_rate_hz))

    def process(self, x: Stereo) -> Stereo:
        n, size, hop = x.shape[1], self._frame_size, self._hop
        mid_side = np.stack([0.5 * (x[0] + x[1]), 0.5 * (x[0] - x[1])])
        marks = self._onsets.process(x)
        y = np.empty((2, n))
        done = 0
        while done < n:
            fill = int(self._fill_state[0])
            step = min(n - done, hop - fill)
            to, now = slice(size - hop + fill, size - hop + fill + step), slice(done, done + step)
            self._in_state[:, to] = mid_side[:, now]
            self._marks_state[to] = marks[now]
            out = slice(fill, fill + step)
            y[:, now] = self._out_state[:, out]
            self._fill_state[0] += step
            done += step
            if fill + step == hop:
                self._frame()
        return np.ascontiguousarray(np.stack([y[0] + y[1], y[0] - y[1]]))

    def _stretch(self) -> tuple[slice, bool]:
        """What of the frame belongs to its middle's stretch, and whether that has begun since the last frame."""
        middle = self._frame_size // 2
        hits = np.flatnonzero(self._marks_state) - self._early
        before, after = hits[hits <= middle], hits[hits > middle]
        first = max(0, int(before[-1])) if len(before) else 0
        last = int(after[0]) if len(after) else self._frame_size
        return slice(first, last), bool(len(before) and before[-1] > middle - self._hop)

    def _frame(self) -> None:
        hop = self._hop
        for held in (self._out_state, self._norm_state):
            held[..., :-hop] = held[..., hop:]
            held[..., -hop:] = 0.0
        part, fresh = self._stretch()
        window = np.zeros(self._frame_size)
        window[part] = self._window[part]
        if fresh:
            self._turned_state[:] = 0.0
        self._norm_state += window * window
        heard = self._in_state * window
        there = [c for c in range(2) if heard[c].any()]
        if there:
            made = self._shifted(heard[there], [self._turned_state[c] for c in there])
            for c, shifted in zip(there, made, strict=True):
                self._out_state[c] += shifted * window
        self._finish(hop)
        self._in_state[:, :-hop] = self._in_state[:, hop:]
        self._marks_state[:-hop] = self._marks_state[hop:]
        self._marks_state[-hop:] = 0
        self._fill_state[0] = 0

    def _finish(self, hop: int) -> None:
        """The first hop of what was made has all its frames now. Frames of noise do not add up as those of tones do: the hop
        is brought to the level of what came in. A hit's first milliseconds are let through as they came."""
        self._out_state[:, :hop] /= np.maximum(self._norm_state[:hop], 1e-3)
        if self._ratio == 1.0 and self._formants == 1.0:
            return
        came, made = (_energy(held[0, :hop]) + _energy(held[1, :hop]) for held in (self._in_state, self._out_state))
        level = self._level_state
        level[0] = came + self._level_fade * level[0]
        level[1] = made + self._level_fade * level[1]
        gain = math.sqrt(level[0] / level[1]) if level[1] > 1e-20 else 1.0
        gain = min(_MOST_GAIN, max(1.0 / _MOST_GAIN, gain))
        self._out_state[:, :hop] *= level[2] + (gain - level[2]) * (np.arange(hop) / hop)
        level[2] = gain
        since = level[3] + 1.0 + np.arange(hop)
        for hit in (np.flatnonzero(self._marks_state) - self._early).tolist():
            if 0 <= hit < hop:
                since[hit:] = np.arange(hop - hit)
        level[3] = since[-1]
        share = np.clip((self._through[1] - since) / (self._through[1] - self._through[0]), 0.0, 1.0)
        if share.any():
            share = 0.5 - 0.5 * np.cos(np.pi * share)
            self._out_state[:, :hop] += share * (self._in_state[:, :hop] - self._out_state[:, :hop])

    def _shifted(self, heard: FloatArray, turned: list[FloatArray]) -> FloatArray:
        """heard (sides, frame), with the phases so far ``turned`` of each, to (sides, frame)."""
        if self._ratio == 1.0 and self._formants == 1.0:
            return heard
        spectrum = np.fft.rfft(heard, self._n_fft)
        sides, bins = spectrum.shape
        magnitude, pooled = np.empty((sides, bins)), np.empty((sides, (bins - 1) // _POOLED + 1))
        for c in range(sides):
            _magnitudes(spectrum[c], magnitude[c], pooled[c])
        scale = self._scale(pooled, bins)
        if self._ratio == 1.0:
            shifted = spectrum * scale
        else:
            shifted = np.empty_like(spectrum)
            turn = 2.0 * np.pi * self._hop / self._n_fft
            for c, phases in enumerate(turned):
                shift_peaks(spectrum[c], magnitude[c], self._ratio, turn, phases, scale[c], shifted[c])
        made = np.fft.irfft(shifted)[:, : self._frame_size]
        # What is shifted beyond half the sample rate is gone, and not to be made up for.
        kept = min(bins, int(bins / max(1.0, self._ratio)))
        for c in range(sides):
            energy = _energy(made[c])
            wanted = 2.0 * _energy(magnitude[c, :kept]) / self._n_fft  # Parseval, both halves of the spectrum
            made[c] *= math.sqrt(wanted / energy) if energy > 0.0 else 0.0
        return made

    def _scale(self, pooled: FloatArray, bins: int) -> FloatArray:
        """What each of ``bins`` of the result is multiplied by, so that the formants end up where they are wanted; (sides, bins).
        The envelope is smooth: an eighth of the bins, each the largest of its neighbours, is enough of it."""
        if self._ratio == self._formants:
            return np.ones((len(pooled), bins))
        envelopes = true_envelope(pooled, self._lifter)
        scale = np.empty((len(pooled), bins))
        for c, envelope in enumerate(envelopes):
            _move_formants(envelope, self._formants, self._ratio, scale[c])
        return scale
