"""How what is played is listened to: both sides, one of them, their sum or difference, one band, dimmed. Never in an export.

It stands between the mix and the output, so that what is measured and what is written to files knows nothing of it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from zygotone.dsp.filters import SosStereo, butterworth_qs, highpass_sos, lowpass_sos
from zygotone.dsp.types import FloatArray, Stereo

Way = Literal["stereo", "mono", "side", "left", "right"]
WAYS: tuple[Way, ...] = ("stereo", "mono", "side", "left", "right")
DIM_DB = -20.0

# What each output side takes of left and right. Mono is half of the sum on both sides, as a single loudspeaker between them
# would play it; the side signal is half of the difference; one side alone is played by both (common practice).
_MATRIX: dict[Way, FloatArray] = {
    "stereo": np.array([[1.0, 0.0], [0.0, 1.0]]), "mono": np.array([[0.5, 0.5], [0.5, 0.5]]),
    "side": np.array([[0.5, -0.5], [0.5, -0.5]]), "left": np.array([[1.0, 0.0], [1.0, 0.0]]),
    "right": np.array([[0.0, 1.0], [0.0, 1.0]]),
}  # fmt: skip

# Bands to listen to alone: as they are spoken of (common practice), by their edges in Hz.
BANDS: dict[str, tuple[float, float]] = {
    "sub": (20.0, 60.0), "bass": (60.0, 150.0), "low mids": (150.0, 500.0), "mids": (500.0, 2000.0), "presence": (2000.0, 6000.0),
    "air": (6000.0, 20000.0),
}  # fmt: skip
_FADE_S = 0.01
_BAND_ORDER = 4


@dataclass(frozen=True, slots=True)
class Listen:
    """What is asked for. ``band`` is one of ``BANDS``, or empty for all of them."""

    way: Way = "stereo"
    band: str = ""
    dim: bool = False

    @property
    def is_plain(self) -> bool:
        return self == Listen()


class Ears:
    """Fed block after block; another way of listening fades in over 10 ms."""

    def __init__(self, rate_hz: int) -> None:
        self.rate_hz = rate_hz
        self._now = self._wanted = _Way(Listen(), rate_hz)
        self._before: _Way | None = None
        self._faded = 0

    @property
    def wanted(self) -> Listen:
        return self._wanted.listen

    def listen(self, wanted: Listen) -> None:
        """From the next block on; called from any thread, which makes the filter ready."""
        self._wanted = _Way(wanted, self.rate_hz)

    def process(self, block: Stereo) -> Stereo:
        """block (2, n)."""
        wanted = self._wanted  # read once: another may be wanted meanwhile
        if self._before is None and wanted is not self._now:
            self._before, self._now, self._faded = self._now, wanted, 0
        heard = self._now.process(block)
        if self._before is not None:
            length = round(_FADE_S * self.rate_hz)
            share = np.clip((self._faded + 1 + np.arange(block.shape[1])) / length, 0.0, 1.0)
            heard = heard * share + self._before.process(block) * (1.0 - share)
            self._faded += block.shape[1]
            if self._faded >= length:
                self._before = None
        return heard


class _Way:
    """One way of listening, with the memory of its filter."""

    def __init__(self, listen: Listen, rate_hz: int) -> None:
        self.listen = listen
        self._matrix = _MATRIX[listen.way] * (10.0 ** (DIM_DB / 20.0) if listen.dim else 1.0)
        self._filter = SosStereo(_band_sos(listen.band, rate_hz)) if listen.band in BANDS else None

    def process(self, block: Stereo) -> Stereo:
        if self.listen.is_plain:
            return block
        heard = block if self._filter is None else self._filter.process(np.ascontiguousarray(block))
        return np.asarray(self._matrix @ heard)


def _band_sos(band: str, rate_hz: int) -> FloatArray:
    """A Butterworth low cut and a high cut, 24 dB an octave each."""
    low, high = BANDS[band]
    highest = min(high, 0.45 * rate_hz)
    return np.array(
        [highpass_sos(low, q, sample_rate_hz=rate_hz) for q in butterworth_qs(_BAND_ORDER)]
        + [lowpass_sos(highest, q, sample_rate_hz=rate_hz) for q in butterworth_qs(_BAND_ORDER)]
    )
