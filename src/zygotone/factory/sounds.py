"""All factory sounds, at one loudness."""

from __future__ import annotations

import functools
import json
from pathlib import Path

from zygotone.factory.pitched import basses, keys, leads, pads, strings, voices_and_effects
from zygotone.factory.rhythm import rhythm
from zygotone.session.saved_sounds import SavedSound

# Trims in dB by name, measured by ``calibrate.py`` so that a test note of each is as loud.
TRIMS = Path(__file__).with_name("trims.json")


def written() -> tuple[SavedSound, ...]:
    """The sounds as they are written down, before they are levelled."""
    return (*rhythm(), *basses(), *strings(), *keys(), *leads(), *pads(), *voices_and_effects())


def trimmed(sound: SavedSound, trim_db: float) -> SavedSound:
    layers = tuple(
        layer.replace(level_db=min(24.0, max(-60.0, round(layer.level_db + trim_db, 2)))) for layer in sound.layers
    )  # fmt: skip
    return sound.replace(layers=layers)


@functools.cache
def factory_sounds() -> tuple[SavedSound, ...]:
    trims = json.loads(TRIMS.read_text(encoding="utf-8"))
    return tuple(trimmed(sound, trims.get(sound.name, 0.0)) for sound in written())
