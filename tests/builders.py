"""Small sessions and projects for tests."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import soundfile

from tests.signals import RATE, bass_track, kick_track, sine
from zygotone.advise.new_project import project_from_stems
from zygotone.session.models import Device, KeyInput
from zygotone.session.project_file import Project


def write_stem(folder: Path, name: str, audio: np.ndarray, rate: int = RATE, subtype: str = "FLOAT") -> Path:
    path = folder / f"{name}.wav"
    soundfile.write(path, audio.T, rate, subtype=subtype)
    return path


def pair_project(
    folder: Path, *, kick_hz: float = 50.0, bass_hz: float = 50.0, gap_ms: float = -9.0, **bass: float
) -> Project:
    """A kick and a bass of known fundamentals and a known gap, 120 BPM."""
    stems = [
        write_stem(folder, "Kick", kick_track(kick_hz)),
        write_stem(folder, "Bass", bass_track(bass_hz, gap_ms=gap_ms, **bass)),
    ]
    return project_from_stems(stems, tempo_bpm=120.0)


def tone_project(folder: Path, *, seconds: float = 1.0, **tracks: float) -> Project:
    """A sine per track, by name and Hz."""
    stems = [write_stem(folder, name, sine(hz, seconds, level_db=-12)) for name, hz in tracks.items()]
    return project_from_stems(stems, tempo_bpm=120.0)


def device(kind: str, device_id: str = "d", *, key: str | None = None, **values: object) -> Device:
    data = {"id": device_id, "kind": kind, **values}
    if key is not None:
        data["key"] = KeyInput(track=key)
    return Device.model_validate(data)
