"""Measures the factory sounds and writes their trims and features: ``python -m zygotone.factory.calibrate``."""

from __future__ import annotations

import json
import math
from dataclasses import asdict

from zygotone.factory.features import features_of, momentary_lufs, probe_note
from zygotone.factory.sounds import MEASURED, trimmed, written

TARGET_LUFS = -22.0  # momentary, the loudest 400 ms of the test note


def main() -> None:
    measured = {}
    for sound in written():
        trim = round(TARGET_LUFS - momentary_lufs(probe_note(sound)), 2)
        features = asdict(features_of(probe_note(trimmed(sound, trim))))
        measured[sound.name] = {
            "trim_db": trim, **{name: value if math.isfinite(value) else None for name, value in features.items()}
        }  # fmt: skip
    MEASURED.write_text(json.dumps(measured, indent=1) + "\n", encoding="utf-8")
    print(f"{len(measured)} sounds measured")


if __name__ == "__main__":
    main()
