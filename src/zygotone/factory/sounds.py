"""All factory sounds, at one loudness."""

from __future__ import annotations

import functools
import json
import math
from dataclasses import fields
from pathlib import Path

from zygotone.factory.features import Features
from zygotone.factory.pitched import basses, keys, leads, pads, strings, voices_and_effects
from zygotone.factory.rhythm import rhythm
from zygotone.session.edits import make_id
from zygotone.session.models import Device, Layer
from zygotone.session.saved_sounds import SavedSound

# By name, as ``calibrate.py`` measures it: the trim in dB by which a test note of each is as loud, and its features.
MEASURED = Path(__file__).with_name("measured.json")


def written() -> tuple[SavedSound, ...]:
    """The sounds as they are written down, before they are levelled."""
    return (*rhythm(), *basses(), *strings(), *keys(), *leads(), *pads(), *voices_and_effects())


def trimmed(sound: SavedSound, trim_db: float) -> SavedSound:
    """Louder by ``trim_db``: at each layer's level, or where it has a chain after that, so that no curve is driven harder."""

    def louder(layer: Layer) -> Layer:
        if not layer.chain:
            return layer.replace(level_db=min(24.0, max(-60.0, round(layer.level_db + trim_db, 2))))
        taken = [device.id for device in layer.chain]
        trim = Device.model_validate(
            {"kind": "gain", "id": make_id("trim", taken), "label": "Trim", "gain_db": trim_db}
        )
        return layer.replace(chain=(*layer.chain, trim))

    return sound.replace(layers=tuple(louder(layer) for layer in sound.layers))


@functools.cache
def _measured() -> dict[str, dict[str, float | None]]:
    held: dict[str, dict[str, float | None]] = json.loads(MEASURED.read_text(encoding="utf-8"))
    return held


@functools.cache
def factory_sounds() -> tuple[SavedSound, ...]:
    return tuple(trimmed(sound, _measured()[sound.name]["trim_db"] or 0.0) for sound in written())


def measured_features(name: str) -> Features:
    """What a factory sound measured like when it was levelled."""
    held = _measured()[name]
    values = {field.name: held[field.name] for field in fields(Features)}
    return Features(**{key: math.nan if value is None else value for key, value in values.items()})
