"""Measures the factory sounds and writes their trims: ``python -m zygotone.factory.calibrate``."""

from __future__ import annotations

import json

import numpy as np

from zygotone.dsp.types import Stereo
from zygotone.engine.playing import play_one
from zygotone.factory.sounds import TRIMS, written
from zygotone.measure.loudness import loudness
from zygotone.session.saved_sounds import SavedSound

RATE_HZ = 48000
TARGET_LUFS = -20.0  # momentary, the loudest 400 ms of the test note
_PITCHES = {"sub": 33, "bass": 33, "guitar": 52, "kick": 60, "snare": 60, "hats": 60, "percussion": 60}


def test_note(sound: SavedSound) -> Stereo:
    """The note that a sound is judged by: where its role plays, held for a second and a half, at velocity 0.8."""
    pitch = _PITCHES.get(sound.role, 60)
    return play_one(sound.instrument(), pitch, rate_hz=RATE_HZ, hold_s=2.2 if sound.role == "effect" else 1.5)


def momentary_lufs(audio: Stereo) -> float:
    """The loudest 400 ms; a short hit is judged by what it puts into that time."""
    padded = np.pad(audio, ((0, 0), (0, max(0, RATE_HZ - audio.shape[1]))))
    return float(np.max(loudness(padded, RATE_HZ).momentary_lufs))


def main() -> None:
    trims = {sound.name: round(TARGET_LUFS - momentary_lufs(test_note(sound)), 2) for sound in written()}
    TRIMS.write_text(json.dumps(trims, indent=1) + "\n", encoding="utf-8")
    print(f"{len(trims)} sounds, trims from {min(trims.values())} to {max(trims.values())} dB")


if __name__ == "__main__":
    main()
