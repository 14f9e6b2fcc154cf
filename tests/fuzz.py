"""Files that lie, by chance: good ones of every kind, damaged in one place or in many. ``./run fuzz [COUNT] [SEED]``.

Whatever is in a file, reading it gives what it holds or a refusal: one line of at most 300 characters without control characters.
The seed of each run is printed, and so is each file's that was not taken so; a seed makes the same files again.
"""

from __future__ import annotations

import json
import random
import sys
import tempfile
import time
import traceback
import zipfile
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile

from tests.builders import tone_project
from tests.signals import RATE, noise
from zygotone.demo import build_demo
from zygotone.engine.bench import Bench
from zygotone.errors import ZygotoneError
from zygotone.factory import factory_sounds
from zygotone.music.midi_files import read_midi, write_midi
from zygotone.music.notes import NoteEvent
from zygotone.reports.library import Library
from zygotone.session.audio_files import read_audio
from zygotone.session.edits import change_strip
from zygotone.session.journal import Journal, journal_path, recover
from zygotone.session.project_file import Project, load_project, save_project
from zygotone.session.saved_sounds import load_sound, save_sound

_ODD: tuple[object, ...] = (
    10**400,
    -(10**400),
    1e308,
    -1,
    0,
    "\x00\x1b[31m",
    "a" * 100_000,
    None,
    True,
    [],
    {},
    [[[[]]]],
    "../../x",
)
_DIGITS = "9" * 5000
_LONGEST_S = 10.0


def damaged_json(line: bytes, rng: random.Random) -> bytes:
    """One value of an object, anywhere in it, is another one."""
    data = json.loads(line)
    where: list[tuple[object, object]] = []
    at: object = data
    while isinstance(at, (dict, list)) and at:
        key = rng.choice(list(at)) if isinstance(at, dict) else rng.randrange(len(at))
        where.append((at, key))
        at = at[key]
        if rng.random() < 0.25:
            break
    if not where:
        return line
    held, key = where[-1]
    if rng.random() < 0.1:
        held[key] = "DIGITS"
        return json.dumps(data).replace('"DIGITS"', _DIGITS).encode()
    held[key] = rng.choice(_ODD)
    return json.dumps(data).encode()


def damaged_bytes(raw: bytes, rng: random.Random) -> bytes:
    """A few bytes changed, taken out, doubled or cut off."""
    data = bytearray(raw)
    for _ in range(rng.randint(1, 5)):
        at, how = rng.randrange(max(1, len(data))), rng.randrange(4)
        if how == 0:
            data[at : at + 1] = bytes([rng.randrange(256)])
        elif how == 1:
            del data[at : at + rng.randint(1, 60)]
        elif how == 2:
            data[at:at] = data[at : at + rng.randint(1, 60)]
        elif rng.random() < 0.2:
            del data[at:]
    return bytes(data)


def damaged_lines(text: bytes, rng: random.Random) -> bytes:
    lines = text.splitlines()
    at = rng.randrange(len(lines))
    lines[at] = damaged_json(lines[at], rng) if rng.random() < 0.7 else damaged_bytes(lines[at], rng)
    return b"\n".join(lines) + b"\n"


class Kinds:
    """Good files of each kind, and how each is damaged and read."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        projects = [build_demo(), tone_project(folder, Low=50.0, High=500.0)]
        self.members: list[dict[str, bytes]] = []
        for n, project in enumerate(projects):
            bench = Bench(project.session)
            bench.note("made", "Made")
            save_project(folder / f"{n}.zygotone", replace(project, log=bench.log))
            with zipfile.ZipFile(folder / f"{n}.zygotone") as z:
                self.members.append({name: z.read(name) for name in z.namelist()})
        self.saved: Project = load_project(folder / "1.zygotone")
        journal = Journal(folder / "1.zygotone", self.saved)
        for level in (-3.0, -6.0):
            journal.write(replace(self.saved, session=change_strip(self.saved.session, "low", level_db=level)))
        self.journal = journal_path(folder / "1.zygotone").read_bytes()
        save_sound(folder / "sound.json", factory_sounds()[0], {})
        self.sound = (folder / "sound.json").read_bytes()
        write_midi(folder / "notes.mid", [("a", [NoteEvent(start_beat=float(b), length_beats=0.5, pitch=60) for b in range(16)])], tempo_bpm=92.0, beats_per_bar=4, beat_unit=4)  # fmt: skip
        self.midi = (folder / "notes.mid").read_bytes()
        self.audio = []
        for suffix in ("wav", "flac", "ogg"):
            soundfile.write(folder / f"a.{suffix}", noise(0.3, level=0.2).T, RATE)
            self.audio.append((suffix, (folder / f"a.{suffix}").read_bytes()))
        Library(folder / "good.sqlite")
        self.library = (folder / "good.sqlite").read_bytes()
        self.all: list[Callable[[random.Random], None]] = [
            self.project_json, self.project_bytes, self.journal_lines, self.sound_json, self.midi_bytes, self.audio_bytes,
            self.library_bytes,
        ]  # fmt: skip

    def _written(self, name: str, data: bytes) -> Path:
        path = self.folder / name
        path.write_bytes(data)
        return path

    def _packed(self, members: dict[str, bytes]) -> Path:
        path = self.folder / "bad.zygotone"
        with zipfile.ZipFile(path, "w") as z:
            for name, data in members.items():
                z.writestr(name, data, zipfile.ZIP_STORED if name.startswith("audio/") else zipfile.ZIP_DEFLATED)
        return path

    def _opened(self, path: Path) -> None:
        project = load_project(path)
        Bench(project.session, log=project.log, trial=project.trial)
        for asset in project.session.assets:
            clip = project.store.clip(asset, project.session.rate_hz)
            clip.read(0, clip.frames)

    def project_json(self, rng: random.Random) -> None:
        members = dict(rng.choice(self.members))
        name = rng.choice(["session.json", "parts.jsonl", "parts.jsonl", "log.jsonl"])
        members[name] = (
            damaged_json(members[name], rng) if name == "session.json" else damaged_lines(members[name], rng)
        )
        self._opened(self._packed(members))

    def project_bytes(self, rng: random.Random) -> None:
        members = dict(rng.choice(self.members))
        audio = [name for name in members if name.startswith("audio/")]
        if audio and rng.random() < 0.5:  # the zip is whole, the clip in it is not
            name = rng.choice(audio)
            members[name] = damaged_bytes(members[name], rng)
            self._opened(self._packed(members))
        else:
            self._opened(self._written("bad.zygotone", damaged_bytes(self._packed(members).read_bytes(), rng)))

    def journal_lines(self, rng: random.Random) -> None:
        journal_path(self.folder / "1.zygotone").write_bytes(damaged_lines(self.journal, rng))
        found = recover(self.folder / "1.zygotone", self.saved)
        assert (
            found is None or found.session.track("low").level_db in (-3.0, -6.0) or found.session != self.saved.session
        )

    def sound_json(self, rng: random.Random) -> None:
        load_sound(self._written("bad.json", (damaged_json if rng.random() < 0.7 else damaged_bytes)(self.sound, rng)))

    def midi_bytes(self, rng: random.Random) -> None:
        read_midi(self._written("bad.mid", damaged_bytes(self.midi, rng)))

    def audio_bytes(self, rng: random.Random) -> None:
        suffix, raw = rng.choice(self.audio)
        data = read_audio(self._written(f"bad.{suffix}", damaged_bytes(raw, rng))).data
        assert np.isfinite(data).all()

    def library_bytes(self, rng: random.Random) -> None:
        data = bytearray(self.library)
        for _ in range(rng.randint(1, 40)):
            data[rng.randrange(len(data))] = rng.randrange(256)
        library = Library(self._written("bad.sqlite", bytes(data)))
        for entry in library.find()[:3]:
            library.sound(entry.id)


def fuzz(count: int, seed: int) -> tuple[Counter[str], list[str]]:
    """Reads ``count`` damaged files. How many of each kind were taken and refused, and what went wrong otherwise."""
    results: Counter[str] = Counter()
    wrong: list[str] = []
    with tempfile.TemporaryDirectory() as name:
        kinds = Kinds(Path(name))
        for n in range(count):
            rng = random.Random(seed * 1_000_003 + n)
            kind = kinds.all[n % len(kinds.all)]
            begin = time.monotonic()
            try:
                kind(rng)
                results[f"{kind.__name__} taken"] += 1
            except ZygotoneError as refusal:
                results[f"{kind.__name__} refused"] += 1
                text = str(refusal)
                if len(text) > 300 or not text.isprintable():
                    wrong.append(f"{n} {kind.__name__}: a refusal of {len(text)} characters: {text[:80]!r}")
            except Exception as problem:
                last = traceback.extract_tb(problem.__traceback__)[-1]
                wrong.append(
                    f"{n} {kind.__name__}: {type(problem).__name__} {str(problem)[:90]} at {Path(last.filename).name}:{last.lineno}"
                )
            if time.monotonic() - begin > _LONGEST_S:
                wrong.append(f"{n} {kind.__name__}: took {time.monotonic() - begin:.0f} s")
    return results, wrong


def main(arguments: list[str]) -> int:
    count = int(arguments[0]) if arguments else 10_000
    seed = int(arguments[1]) if len(arguments) > 1 else random.SystemRandom().randrange(1 << 31)
    print(f"{count} files, seed {seed}")
    results, wrong = fuzz(count, seed)
    for name, times in sorted(results.items()):
        print(f"  {name}: {times}")
    print(*(wrong or ["Nothing else happened."]), sep="\n")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
