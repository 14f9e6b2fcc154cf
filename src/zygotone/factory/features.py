"""What a sound measures like, by one test note: so that sounds can be asked for by ear's words."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.giving_up import IsUnwanted
from zygotone.dsp.types import Stereo
from zygotone.engine.playing import play_one
from zygotone.engine.renderer import Renderer
from zygotone.measure.dynamics import attack_ms, decay_ms
from zygotone.measure.loudness import loudness
from zygotone.measure.spectrum import centroid_hz, spectrum
from zygotone.measure.stereo import side_share
from zygotone.session.audio_files import AudioData, resample
from zygotone.session.saved_sounds import SavedSound

RATE_HZ = 48000
_PITCHES = {"sub": 33, "bass": 33, "guitar": 52}


@dataclass(frozen=True, slots=True)
class Features:
    """Of the test note: brightness, how quickly it rises and falls, how wide it is. NaN where there is none."""

    centroid_hz: float
    attack_ms: float
    decay_ms: float
    side_share: float


def probe_note(sound: SavedSound, clip: Callable[[str], Stereo] | None = None) -> Stereo:
    """The note that a sound is judged by: where its role plays, held for a second and a half, at velocity 0.8."""
    pitch = _PITCHES.get(sound.role, 60)
    hold = 2.2 if sound.role == "effect" else 1.5
    return play_one(sound.instrument(), pitch, rate_hz=RATE_HZ, hold_s=hold, clip=clip)


@dataclass(frozen=True, slots=True)
class ProbeNote:
    """A question: the note that a sound is judged by, at the rate that is played. ``clips`` by name."""

    sound: SavedSound
    clips: tuple[tuple[str, AudioData], ...]
    rate_hz: int
    name: str = "library"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> Stereo:
        audio = {name: resample(clip.stereo(), clip.rate_hz, RATE_HZ) for name, clip in self.clips}
        return resample(probe_note(self.sound, audio.__getitem__), RATE_HZ, self.rate_hz)


def momentary_lufs(audio: Stereo) -> float:
    """The loudest 400 ms; a short hit is judged by what it puts into that time."""
    padded = np.pad(audio, ((0, 0), (0, max(0, RATE_HZ - audio.shape[1]))))
    return float(np.max(loudness(padded, RATE_HZ).momentary_lufs))


def features_of(audio: Stereo) -> Features:
    """Of a note, (2, frames) at ``RATE_HZ``; NaN of what it does not have."""

    def finite(value: float) -> float:
        return round(float(value), 3) if math.isfinite(value) else math.nan

    return Features(
        finite(centroid_hz(spectrum(audio, RATE_HZ))), finite(attack_ms(audio, RATE_HZ)), finite(decay_ms(audio, RATE_HZ)),
        finite(side_share(audio)),
    )  # fmt: skip
