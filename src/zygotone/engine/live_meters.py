"""What is played, measured as it goes by: momentary and short-term loudness, correlation, balance, and third octaves."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.filters import SosStereo
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.dsp.weighting import k_weighting_sos

BANDS_HZ = np.array([1000.0 * 10.0 ** ((i - 17) / 10.0) for i in range(31)])  # IEC 61260-1, 20 Hz to 20 kHz
SILENT_DB = -120.0
_STEP_S, _MOMENTARY_STEPS, _SHORT_STEPS = 0.1, 4, 30  # ITU-R BS.1770: 400 ms; EBU Tech 3341: 3 s
_CORRELATED_S = 0.3  # the stretch that correlation looks back on, by and by
_FRAMES = 4096  # of the spectrum
_EVERY = 3  # blocks


@dataclass(frozen=True, slots=True)
class Metered:
    """The numbers at one moment."""

    momentary_lufs: float
    short_term_lufs: float
    correlation: float
    balance_db: float  # how much louder the right side is than the left
    bands_db: FloatArray  # (31,)


class LiveMeters:
    """Fed block after block; its numbers are of what was fed last."""

    def __init__(self, rate_hz: int) -> None:
        self.rate_hz = rate_hz
        self._step_frames = round(_STEP_S * rate_hz)
        self._window = np.hanning(_FRAMES)
        hz = np.fft.rfftfreq(_FRAMES, 1.0 / rate_hz)
        edge = 10.0 ** (1.0 / 20.0)
        # Bands that are narrower than a bin take their share of the nearest one.
        width = hz[1]
        low, high = BANDS_HZ / edge, np.minimum(BANDS_HZ * edge, 0.5 * rate_hz)
        overlap = np.minimum(high[:, None], hz + width / 2) - np.maximum(low[:, None], hz - width / 2)
        self._bands = np.maximum(0.0, overlap) / width
        self._scale = 2.0 / (float(np.sum(self._window**2)) * _FRAMES)
        self.reset()

    def reset(self) -> None:
        """Nothing has been played."""
        self._weighting = SosStereo(k_weighting_sos(self.rate_hz))
        self._steps: deque[float] = deque(maxlen=_SHORT_STEPS)
        self._energy, self._frames, self._blocks = 0.0, 0, 0
        self._products = np.zeros(3)
        self._last = np.zeros((2, _FRAMES))
        self.momentary_lufs = self.short_term_lufs = SILENT_DB
        self.correlation = self.balance_db = 0.0
        self.bands_db: FloatArray = np.full(len(BANDS_HZ), SILENT_DB)

    def process(self, block: Stereo) -> None:
        """block (2, n), what goes to the output."""
        frames = block.shape[1]
        weighted = self._weighting.process(np.ascontiguousarray(block))
        at = 0
        while at < frames:  # steps of 100 ms begin within blocks
            some = min(frames - at, self._step_frames - self._frames)
            self._energy += float(np.sum(weighted[:, at : at + some] ** 2))
            self._frames += some
            at += some
            if self._frames == self._step_frames:
                self._steps.append(self._energy / self._step_frames)
                self._energy, self._frames = 0.0, 0
                self.momentary_lufs, self.short_term_lufs = (self._lufs(n) for n in (_MOMENTARY_STEPS, _SHORT_STEPS))
        left, right = block
        forget = float(np.exp(-frames / (_CORRELATED_S * self.rate_hz)))
        self._products = forget * self._products + np.array([left @ left, right @ right, left @ right])
        both = float(np.sqrt(self._products[0] * self._products[1]))
        self.correlation = float(self._products[2]) / both if both > 1e-9 else 0.0
        left_power, right_power = self._products[0] + 1e-9, self._products[1] + 1e-9
        self.balance_db = 10.0 * float(np.log10(right_power / left_power))
        if frames >= _FRAMES:
            self._last = block[:, -_FRAMES:].copy()
        else:
            self._last[:, :-frames] = self._last[:, frames:]
            self._last[:, -frames:] = block
        self._blocks += 1
        if self._blocks % _EVERY == 0:
            bins = np.fft.rfft(self._last * self._window, axis=1)
            power = self._scale * np.mean(bins.real**2 + bins.imag**2, axis=0)
            self.bands_db = 10.0 * np.log10(self._bands @ power + 1e-12)

    def _lufs(self, steps: int) -> float:
        few = list(self._steps)[-steps:]
        return max(SILENT_DB, -0.691 + 10.0 * float(np.log10(sum(few) / steps + 1e-13)))
