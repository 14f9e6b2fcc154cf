"""Everything that can be measured of one piece of audio: the object that ``measure --json`` prints."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.tiny import tiny_as_zero
from zygotone.dsp.types import FloatArray
from zygotone.measure.dynamics import rms
from zygotone.measure.loudness import loudness, true_peak
from zygotone.measure.pitch import fundamental_hz
from zygotone.measure.spectrum import centroid_hz, spectrum, third_octaves
from zygotone.measure.stereo import correlation, side_share
from zygotone.music.pitch import name_pitch


def _number(value: float, digits: int) -> float | None:
    """Rounded; None where there is no such number."""
    return round(float(value), digits) if math.isfinite(value) else None


@tiny_as_zero()
def measure_audio(audio: FloatArray, rate_hz: int, *, a4_hz: float = 440.0) -> dict[str, Any]:
    """``audio`` (1 or 2, frames). A value that does not exist, as in silence, is None.

    Mono is measured as the one channel it is: a full-scale sine reads −3.01 LUFS.
    Third octaves are relative to the integrated loudness.
    """
    heard = loudness(audio, rate_hz)
    average = spectrum(audio, rate_hz, n_fft=32768)
    level = rms(audio)
    peak = max(float(np.max(audio, initial=0.0)), -float(np.min(audio, initial=0.0)))
    silent = peak == 0.0
    f0 = fundamental_hz(audio, rate_hz)
    pitch = name_pitch(f0, a4_hz=a4_hz) if math.isfinite(f0) else None
    bands: dict[str, float | None] = {}
    for name, power in third_octaves(average).items():
        # Mean over channels, while loudness adds them up; so the sum is what is compared.
        total = power * audio.shape[0]
        known = total > 1e-16 and math.isfinite(heard.integrated_lufs)
        bands[name] = round(10.0 * math.log10(total) - heard.integrated_lufs, 2) if known else None
    return {
        "rate_hz": rate_hz,
        "seconds": round(audio.shape[1] / rate_hz, 6),
        "integrated_lufs": _number(heard.integrated_lufs, 2),
        "loudness_range_lu": _number(heard.range_lu, 2),
        "momentary_max_lufs": _number(heard.momentary_max_lufs, 2),
        "short_term_max_lufs": _number(heard.short_term_max_lufs, 2),
        "true_peak_dbtp": None if silent else round(float(gain_to_db(true_peak(audio, rate_hz))), 2),
        "sample_peak_dbfs": None if silent else round(float(gain_to_db(peak)), 2),
        "rms_dbfs": None if silent else round(float(gain_to_db(level)), 2),
        "crest_db": _number(float(gain_to_db(peak / level)), 2) if level > 1e-10 else None,
        "correlation": _number(correlation(audio), 4),
        "side_share": _number(side_share(audio), 4),
        "fold_down_loss_lu": _number(heard.fold_down_loss_lu, 2),
        "centroid_hz": _number(centroid_hz(average), 1),
        "fundamental_hz": _number(f0, 2),
        "fundamental_note": pitch.note if pitch else None,
        "fundamental_cents": round(pitch.cents, 1) if pitch else None,
        "third_octaves_db": bands,
    }
