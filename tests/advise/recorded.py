"""A clean arrangement of recorded instruments, played and mixed as one would."""

from __future__ import annotations

import functools
from collections.abc import Mapping
from types import MappingProxyType

import numpy as np

from tests.recorded import DRUM_BANK, Bank, bank_path
from tests.signals import RATE
from zygotone.measure.loudness import integrated_lufs
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import Bus, ClipSource, Device, Part, Section, Session, Song, Track
from zygotone.session.project_file import Project

BPM, BARS = 96.0, 4

# (beat, key, velocity, beats) of four bars; A minor, F, C, G.
_ROOTS = (45, 41, 48, 43)
_CHORDS = ((57, 60, 64), (57, 60, 65), (55, 60, 64), (55, 59, 62))
_TUNE = (
    (0, 76, 90, 1.5), (1.5, 74, 84, 0.5), (2, 72, 96, 1.8), (4, 69, 92, 1), (5, 72, 88, 1), (6, 77, 98, 1.8), (8, 76, 94, 1.5), (9.5, 74, 86, 0.5),
    (10, 72, 92, 1), (11, 74, 86, 1), (12, 74, 96, 2.5), (14.5, 71, 86, 0.5), (15, 67, 88, 0.9),
)  # fmt: skip
Notes = list[tuple[float, int, int, float]]


def _parts() -> dict[str, tuple[int, int, Notes]]:
    """Bank, program, notes."""
    kick: Notes = [(4 * b + beat, 36, v, 0.3) for b in range(BARS) for beat, v in ((0, 112), (2, 106), (2.5, 92))]
    snare: Notes = [(4 * b + beat, 38, v, 0.3) for b in range(BARS) for beat, v in ((1, 108), (3, 111))]
    hats: Notes = [(0.5 * n, 42, 96 if n % 2 == 0 else 78, 0.1) for n in range(8 * BARS)]
    bass: Notes = [
        (4 * b + beat, root - 12, v, length)
        for b, root in enumerate(_ROOTS) for beat, v, length in ((0, 104, 1.4), (1.5, 92, 0.45), (2, 100, 1.4), (3.5, 90, 0.45))
    ]  # fmt: skip
    keys: Notes = [
        (4 * b + beat, k, v, 1.7) for b, c in enumerate(_CHORDS) for beat, v in ((0, 82), (2, 76)) for k in c
    ]
    guitar: Notes = [
        (4 * b + 0.5 * n, c[n % 3] + (12 if n % 4 == 3 else 0), 74 + 8 * (n % 2 == 0), 0.9) for b, c in enumerate(_CHORDS) for n in range(8)
    ]  # fmt: skip
    pad: Notes = [(4 * b, k + 12, 70, 3.9) for b, c in enumerate(_CHORDS) for k in c[::2]]
    lead: Notes = [(float(beat), k, v, float(length)) for beat, k, v, length in _TUNE]
    return {
        "Kick": (DRUM_BANK, 0, kick), "Snare": (DRUM_BANK, 0, snare), "Hats": (DRUM_BANK, 0, hats), "Bass": (0, 33, bass),
        "Piano": (0, 0, keys), "Guitar": (0, 25, guitar), "Strings": (0, 48, pad), "Lead": (0, 65, lead),
    }  # fmt: skip


# As one would mix it (common practice): the tune and the beat in front, chords behind and to the sides, what lies low cut where
# others live. Role, seat, loudness in LUFS, pan in %, low cut in Hz.
MIX = {
    "Kick": ("kick", 1, -23.0, 0.0, 0.0), "Snare": ("snare", 2, -24.0, 0.0, 90.0), "Hats": ("hats", 6, -34.0, 20.0, 400.0),
    "Bass": ("bass", 3, -23.0, 0.0, 35.0), "Piano": ("keys", 6, -31.0, -25.0, 180.0),
    "Guitar": ("guitar", 5, -31.0, 45.0, 160.0), "Strings": ("pad", 7, -34.0, 0.0, 250.0), "Lead": ("lead", 1, -21.0, 0.0, 120.0),
}  # fmt: skip


@functools.cache
def played() -> dict[str, np.ndarray]:
    """Each part, (2, frames), as it was recorded: no mix yet."""
    bank = Bank(bank_path())
    frames = round(BARS * 4 * 60.0 / BPM * RATE)
    found = {}
    for name, (number, program, notes) in _parts().items():
        out = np.zeros((2, frames + 4 * RATE))
        for beat, key, velocity, beats in notes:
            audio = bank.note(program, key, velocity, beats * 60.0 / BPM, bank=number)
            at = round(beat * 60.0 / BPM * RATE)
            n = min(audio.shape[1], out.shape[1] - at)
            out[:, at : at + n] += audio[:, :n]
        # Played in a loop: what rings over its end is there at its start.
        out[:, : 4 * RATE] += out[:, frames:]
        found[name] = np.ascontiguousarray(out[:, :frames])
    return found


@functools.cache
def _at(name: str, lufs: float) -> AudioData:
    """A part at a loudness, as it is recorded in a file."""
    audio = played()[name]
    return AudioData(audio * 10.0 ** ((lufs - integrated_lufs(audio, RATE)) / 20.0), RATE, "FLOAT", "WAV")


def mixed(
    changes: Mapping[str, tuple[str, int, float, float, float]] = MappingProxyType({}), store: AudioStore | None = None
) -> Project:
    """The arrangement as a project of clips; ``changes`` mixes some of it otherwise."""
    store, assets, tracks = store or AudioStore(), [], []
    for name in played():
        role, seat, lufs, pan, low_cut = {**MIX, **changes}[name]
        asset = store.add(_at(name, lufs), name, RATE)
        assets.append(asset)
        band = {"shape": "low_cut", "freq_hz": low_cut, "slope_db_oct": 12}
        chain = (Device.model_validate({"kind": "eq", "id": "eq", "bands": [band]}),) if low_cut else ()
        tracks.append(
            Track(
                id=name.lower(), name=name, role=role, seat=seat, chain=chain, pan_pct=pan,
                source=ClipSource(asset=asset.id), parts=(Part(section="song"),),
            )
        )  # fmt: skip
    section = Section(id="song", name="Song", bars=BARS)
    session = Session(
        rate_hz=RATE, tracks=tuple(tracks), assets=tuple(assets), mix=Bus(id="mix", name="Mix"),
        song=Song(title="Played", tempo_bpm=BPM, key="A minor", sections=(section,)),
    )  # fmt: skip
    return Project(session=session, store=store)
