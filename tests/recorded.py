"""Recorded instruments: what real strings, skins and reeds do, and no synthesis of ours.

The recordings are those of a bank of sampled instruments that ships with a general library for note files (in tests only). The
bank is a RIFF file in an open format of its kind (version 2.01): recordings, and zones that say which of them a key plays and how.
What is read of a zone is named in ``_Zone``; the rest (filters that move, modulators) is left out.
"""

from __future__ import annotations

import functools
import importlib.util
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soxr

from tests.signals import RATE

DRUM_BANK = 128


@functools.cache
def bank_path() -> Path:
    spec = importlib.util.find_spec("pretty_midi")
    assert spec is not None
    assert spec.submodule_search_locations
    (path,) = Path(spec.submodule_search_locations[0]).glob("*.sf2")
    return path


# --- the bank ------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Zone:
    """Operators by number: 34, 36 to 38 times and level of the volume envelope, 41 instrument, 43 keys, 44 velocities, 48
    attenuation, 51 and 52 tuning, 53 recording, 54 whether it loops, 58 its key, 17 pan, 2, 3, 45 and 50 where its loop is moved."""

    of: dict[int, int]

    def holds(self, key: int, velocity: int) -> bool:
        return all(
            (self.of.get(op, 0x7F00) & 0xFF) <= value <= (self.of.get(op, 0x7F00) >> 8)
            for op, value in ((43, key), (44, velocity))
        )

    def signed(self, op: int, usual: int = 0) -> int:
        value = self.of.get(op, usual & 0xFFFF)
        return value - 0x10000 if value >= 0x8000 else value


class Bank:
    def __init__(self, path: Path) -> None:
        data = path.read_bytes()
        assert (data[:4], data[8:12]) == (b"RIFF", b"sfbk")
        lists = {data[at : at + 4]: (at + 4, at + size) for _, at, size in _chunks(data, 12, len(data))}
        parts = {name: (at, size) for span in lists.values() for name, at, size in _chunks(data, *span)}
        at, size = parts[b"smpl"]
        self.recorded = np.frombuffer(data, "<i2", size // 2, at).astype(np.float64) / 32768.0

        def rows(name: bytes, form: str) -> list[tuple]:
            at, size = parts[name]
            return list(struct.iter_unpack(form, data[at : at + size]))

        self._presets = {(bank, program): n for n, (_, program, bank, *_) in enumerate(rows(b"phdr", "<20s3H3I")[:-1])}
        self._preset_bags = [row[3] for row in rows(b"phdr", "<20s3H3I")]
        self._instrument_bags = [row[1] for row in rows(b"inst", "<20sH")]
        self._bags = {"p": rows(b"pbag", "<2H"), "i": rows(b"ibag", "<2H")}
        self._operators = {"p": rows(b"pgen", "<2H"), "i": rows(b"igen", "<2H")}
        self._samples = rows(b"shdr", "<20s5IBb2H")

    def _zones(self, kind: str, first: int, last: int, ends_with: int) -> list[_Zone]:
        """Of one preset or instrument; a first one that names nothing says what all of them have."""
        shared: dict[int, int] = {}
        found = []
        for bag in range(first, last):
            begin, end = self._bags[kind][bag][0], self._bags[kind][bag + 1][0]
            own = dict(self._operators[kind][begin:end])
            if ends_with in own:
                found.append(_Zone({**shared, **own}))
            elif bag == first:
                shared = own
        return found

    def note(self, program: int, key: int, velocity: int, length_s: float, *, bank: int = 0) -> np.ndarray:
        """(2, frames) at RATE, with its release."""
        preset = self._presets[bank, program]
        parts = []
        for zone in self._zones("p", self._preset_bags[preset], self._preset_bags[preset + 1], 41):
            if zone.holds(key, velocity):
                instrument = zone.of[41]
                span = self._instrument_bags[instrument], self._instrument_bags[instrument + 1]
                parts += [self._sounded(z, zone, key, velocity, length_s) for z in self._zones("i", *span, 53) if z.holds(key, velocity)]  # fmt: skip
        assert parts, (program, key, velocity)
        out = np.zeros((2, max(p.shape[1] for p in parts)))
        for part in parts:
            out[:, : part.shape[1]] += part
        return out

    def _sounded(self, zone: _Zone, preset: _Zone, key: int, velocity: int, length_s: float) -> np.ndarray:
        _, start, end, loop_start, loop_end, rate, root, correction, *_ = self._samples[zone.of[53]]
        loop_start += zone.signed(2) + 32768 * zone.signed(45)
        loop_end += zone.signed(3) + 32768 * zone.signed(50)
        root = zone.signed(58, -1) if zone.signed(58, -1) >= 0 else root
        tune = sum(100 * each.signed(51) + each.signed(52) for each in (zone, preset))
        ratio = 2.0 ** ((100 * (key - root) + tune + correction) / 1200.0) * rate / RATE
        release_s = 2.0 ** (zone.signed(38, -12000) / 1200.0)
        drum = zone.of.get(54, 0) & 1 == 0
        frames = round((length_s + min(1.5, release_s)) * RATE)
        audio = self.recorded[start:end]
        if not drum:
            wanted, turn = int(frames * ratio) + 64, self.recorded[loop_start:loop_end]
            head = self.recorded[start:loop_end]
            audio = np.concatenate([head, np.resize(turn, max(0, wanted - len(head)))])[:wanted]
        moved = soxr.resample(audio, 1.0, 1.0 / ratio, quality="VHQ")[: None if drum else frames]
        time_s = np.arange(len(moved)) / RATE
        decay_s, sustain_db = 2.0 ** (zone.signed(36, -12000) / 1200.0), 0.1 * max(0, zone.signed(37))
        level_db = -np.minimum(sustain_db, 100.0 * time_s / max(decay_s, 1e-3))
        if not drum:
            level_db -= 100.0 * np.maximum(0.0, time_s - length_s) / max(release_s, 0.03)
        attack_s = 2.0 ** (zone.signed(34, -12000) / 1200.0)
        gain = np.minimum(1.0, time_s / max(attack_s, 1e-4)) * 10.0 ** (level_db / 20.0) * (velocity / 127.0) ** 2
        fade = min(len(moved), 240)
        gain[-fade:] *= np.linspace(1.0, 0.0, fade)
        side = np.clip(0.5 + zone.signed(17) / 1000.0, 0.0, 1.0)
        return np.outer(np.sqrt(2.0) * np.array([np.cos(0.5 * np.pi * side), np.sin(0.5 * np.pi * side)]), moved * gain)


def _chunks(data: bytes, at: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    while at + 8 <= end:
        size = struct.unpack("<I", data[at + 4 : at + 8])[0]
        yield data[at : at + 4], at + 8, size
        at += 8 + size + (size & 1)
