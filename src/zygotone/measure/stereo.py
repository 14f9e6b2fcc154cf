"""Width, balance, and what mono loses."""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, lowpass_sos
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.measure.loudness import integrated_lufs

_NOTHING = 1e-20


def correlation(audio: FloatArray) -> float:
    """Pearson's coefficient between left and right; 1 for mono, NaN where a side is silent or constant."""
    if audio.shape[0] == 1:
        return 1.0 if np.ptp(audio) > 0 else math.nan
    left, right = audio[0] - audio[0].mean(), audio[1] - audio[1].mean()
    power = math.sqrt(float(left @ left) * float(right @ right))
    return float(left @ right) / power if power > _NOTHING else math.nan


def side_share(audio: FloatArray) -> float:
    """Side energy over mid plus side, 0 (mono) to 1; NaN in silence."""
    if audio.shape[0] == 1:
        return 0.0 if audio.any() else math.nan
    mid, side = 0.5 * (audio[0] + audio[1]), 0.5 * (audio[0] - audio[1])
    both = float(mid @ mid + side @ side)
    return float(side @ side) / both if both > _NOTHING else math.nan


def side_share_below(audio: Stereo, freq_hz: float, sample_rate_hz: int) -> float:
    """``side_share`` of what lies below ``freq_hz`` (24 dB per octave)."""
    low = lowpass_sos(freq_hz, BUTTERWORTH_Q, sample_rate_hz=sample_rate_hz)
    return side_share(SosStereo(np.array([low, low])).process(np.ascontiguousarray(audio)))


def fold_down_loss_lu(audio: FloatArray, sample_rate_hz: int) -> float:
    """Loudness of stereo minus loudness of (L+R)/2 on both sides; NaN where either has none."""
    if audio.shape[0] == 1:
        return 0.0 if audio.any() else math.nan
    middle = 0.5 * (audio[0] + audio[1])
    stereo = integrated_lufs(audio, sample_rate_hz)
    mono = integrated_lufs(np.stack([middle, middle]), sample_rate_hz)
    return stereo - mono if math.isfinite(stereo) and math.isfinite(mono) else math.nan
