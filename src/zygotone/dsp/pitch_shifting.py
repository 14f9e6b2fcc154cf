"""Pitch moved in the spectrum: peaks are shifted whole, each with the phases around it.

J. Laroche and M. Dolson, "New phase-vocoder techniques for pitch-shifting, harmonizing and other exotic effects", 1999:
around each peak of a short spectrum the bins are moved together, and turned by the phase that the new frequency gains
from frame to frame. The formants are held by dividing the shift's own envelope out again (A. Röbel and X. Rodet,
"Efficient spectral envelope estimation", 2005, by the cepstrum).
"""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, Stereo

FRAME = 4096
_OVERLAP = 8
_HOP = FRAME // _OVERLAP
_N_FFT = 2 * FRAME  # zeros behind the frame: bins half as wide, so that a peak is moved nearer to its place
_BINS = _N_FFT // 2 + 1


# A peak is larger than so many bins on either side: the side lobes of the window, two bins apart, are none.
_APART = 4


@kernel
def _is_peak(magnitude: FloatArray, k: int) -> bool:
    m = float(magnitude[k])
    for d in range(1, _APART + 1):
        if (k >= d and magnitude[k - d] >= m) or magnitude[k + d] > m:
            return False
    return m > 0.0


@kernel
def shift_peaks(
    spectrum: np.ndarray, ratio: float, hop_turn: float, turned: FloatArray, scale: FloatArray, out: np.ndarray
) -> None:
    """spectrum and out (bins,) complex; turned (bins,) the phase so far gained at each place; scale (bins,) is what
    each bin of ``out`` is multiplied by. ``hop_turn`` is 2π·hop/frame, the phase of one bin over one hop.
    """
    bins = spectrum.shape[0]
    magnitude = np.empty(bins)
    for k in range(bins):
        magnitude[k] = abs(spectrum[k])
        out[k] = 0.0
    before = turned.copy()
    begin, filled, last = 0, -1, 0.0
    k = 1
    while begin < bins:
        peak = -1
        while k < bins - _APART:
            if _is_peak(magnitude, k):
                peak = k
                break
            k += 1
        if peak < 0:
            break
        # Its region ends at the lowest bin before the following peak.
        lowest = peak + 1
        j = peak + 1
        while j < bins - _APART and not _is_peak(magnitude, j):
            if magnitude[j] < magnitude[lowest]:
                lowest = j
            j += 1
        end = lowest + 1 if j < bins - _APART else bins
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
            for n in range(begin, end):
                to = n + whole
                if 0 <= to < bins:
                    out[to] += spectrum[n] * turn * scale[to]
            # Up to halfway to the peak below, the phase is this peak's; regions may overlap, their middles do not.
            middle = (filled + target) // 2 if filled >= 0 else 0
            for n in range(max(0, filled), middle):
                turned[n] = last
            for n in range(middle, target + 1):
                turned[n] = angle
            filled, last = target, angle
        begin = end
        k = max(end, peak + 1)
    for n in range(max(0, filled), bins):
        turned[n] = last


def _envelope(magnitude: FloatArray, lifter: int) -> FloatArray:
    """Smooth envelope of a magnitude spectrum (bins,), by the low part of its cepstrum, in nepers."""
    log = np.log(np.maximum(magnitude, 1e-9))
    cepstrum = np.fft.irfft(log)
    cepstrum[lifter:-lifter] = 0.0
    return np.asarray(np.fft.rfft(cepstrum).real)


class PitchShifter(Memory):
    """Stereo audio at another pitch; left and right keep their phases to each other by sharing the peaks of neither:
    mid and side are shifted apart, and a mono signal stays mono. Latency is one frame of 4096."""

    latency = FRAME

    def __init__(self, ratio: float, formant_ratio: float, sample_rate_hz: int) -> None:
        """``formant_ratio`` moves the formants of the result; at 1 they stay where they were in the input."""
        self._ratio, self._formants = ratio, formant_ratio
        self._lifter = max(16, round(sample_rate_hz / 700.0))
        self._window = np.sqrt(0.5 - 0.5 * np.cos(2.0 * np.pi * np.arange(FRAME) / FRAME))
        self._norm = 1.0 / (0.5 * _OVERLAP)
        self._in_state = np.zeros((2, FRAME))
        self._out_state = np.zeros((2, FRAME))
        self._turned_state = np.zeros((2, _BINS))
        self._fill_state = np.zeros(1, dtype=np.int64)

    def process(self, x: Stereo) -> Stereo:
        n = x.shape[1]
        mid_side = np.stack([0.5 * (x[0] + x[1]), 0.5 * (x[0] - x[1])])
        y = np.empty((2, n))
        done = 0
        while done < n:
            fill = int(self._fill_state[0])
            step = min(n - done, _HOP - fill)
            self._in_state[:, FRAME - _HOP + fill : FRAME - _HOP + fill + step] = mid_side[:, done : done + step]
            y[:, done : done + step] = self._out_state[:, fill : fill + step]
            self._fill_state[0] += step
            done += step
            if fill + step == _HOP:
                self._frame()
        return np.ascontiguousarray(np.stack([y[0] + y[1], y[0] - y[1]]))

    def _frame(self) -> None:
        self._out_state[:, :-_HOP] = self._out_state[:, _HOP:]
        self._out_state[:, -_HOP:] = 0.0
        for c in range(2):
            if not self._in_state[c].any():
                continue
            spectrum = np.fft.rfft(self._in_state[c] * self._window, _N_FFT)
            scale = self._scale(spectrum)
            shifted = spectrum * scale
            if self._ratio != 1.0:
                turn = 2.0 * np.pi * _HOP / _N_FFT
                shift_peaks(spectrum, self._ratio, turn, self._turned_state[c], scale, shifted)
            frame = np.fft.irfft(shifted)[:FRAME]
            self._out_state[c] += frame * self._window * self._norm
        self._in_state[:, :-_HOP] = self._in_state[:, _HOP:]
        self._fill_state[0] = 0

    def _scale(self, spectrum: np.ndarray) -> FloatArray:
        """What each bin of the result is multiplied by, so that the formants end up where they are wanted."""
        if self._ratio == self._formants:
            return np.ones(_BINS)
        envelope = _envelope(np.abs(spectrum), self._lifter)
        bins = np.arange(_BINS)
        wanted = np.interp(bins / self._formants, bins, envelope)
        given = np.interp(bins / self._ratio, bins, envelope)
        return np.asarray(np.exp(np.clip(wanted - given, -4.0, 4.0)))
