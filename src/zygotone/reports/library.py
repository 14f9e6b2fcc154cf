"""The library of sounds that the application keeps, in one SQLite file: the factory's and one's own.

Every song holds its own sounds; the library only offers them.
"""

from __future__ import annotations

import io
import json
import math
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import soundfile

from zygotone.errors import BadFileError, ParameterError, ZygotoneError, one_line
from zygotone.factory.features import Features, features_of, probe_note
from zygotone.factory.sounds import factory_sounds, measured_features
from zygotone.session.audio_files import AudioData, resample
from zygotone.session.clipboard import from_text
from zygotone.session.saved_sounds import SavedSound

VERSION = 1
_SCHEMA = """
CREATE TABLE IF NOT EXISTS sounds (
  id INTEGER PRIMARY KEY, name TEXT NOT NULL, role TEXT NOT NULL, tags TEXT NOT NULL, notes TEXT NOT NULL,
  factory INTEGER NOT NULL, sound TEXT NOT NULL, centroid_hz REAL, attack_ms REAL, decay_ms REAL, side_share REAL);
CREATE TABLE IF NOT EXISTS kept (
  id INTEGER PRIMARY KEY, kind TEXT NOT NULL, name TEXT NOT NULL, notes TEXT NOT NULL, text TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS clips (sound INTEGER NOT NULL REFERENCES sounds(id) ON DELETE CASCADE, name TEXT NOT NULL, audio BLOB NOT NULL);
"""
_SAME_ATTACK = 1.35  # a ratio of attacks that is heard as the same (common practice)
# How sounds can be asked for beside another: the words, and what they mean.
COMPARISONS = ("brighter than", "darker than", "same attack as", "longer than", "shorter than", "wider than")
ORDERS = {"by name": "name COLLATE NOCASE", "brightest first": "centroid_hz DESC", "darkest first": "centroid_hz ASC", "quickest first": "attack_ms ASC", "longest first": "decay_ms DESC"}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Entry:
    """A sound as the list shows it."""

    id: int
    name: str
    role: str
    tags: tuple[str, ...]
    notes: str
    factory: bool
    features: Features


@dataclass(frozen=True, slots=True)
class Kept:
    """A chain or a phrase in the library: ``text`` is what the clipboard would hold, clips included."""

    id: int
    name: str
    notes: str
    text: str


class Library:
    """Raises BadFileError where the file is no library, or cannot be written."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with closing(self._open()) as db, db:
                found = db.execute("PRAGMA user_version").fetchone()[0]
                if found > VERSION:
                    raise BadFileError(path, "", "was made by a newer Zygotone")
                db.executescript(_SCHEMA)
                db.execute(f"PRAGMA user_version = {VERSION}")
                self._seed(db)
        except ZygotoneError:
            raise
        except (sqlite3.Error, OSError, ValueError) as error:
            raise BadFileError(path, "", f"is no library of sounds ({one_line(error)})") from None

    @contextmanager
    def _read(self, what: str = "read") -> Iterator[sqlite3.Connection]:
        """The library open; what is foreign or damaged in it is refused.

        Raises
        ------
        BadFileError : it is.
        """
        try:
            with closing(self._open()) as db, db:
                yield db
        except ZygotoneError:
            raise
        except (sqlite3.Error, OSError, ValueError, TypeError, RuntimeError) as error:
            raise BadFileError(self.path, "", f"cannot be {what} ({one_line(error)})") from None

    def _open(self) -> sqlite3.Connection:
        db = sqlite3.connect(self.path)
        db.execute("PRAGMA foreign_keys = ON")
        return db

    def _seed(self, db: sqlite3.Connection) -> None:
        """The factory's sounds as this version has them."""
        held = dict(db.execute("SELECT name, sound FROM sounds WHERE factory = 1").fetchall())
        now = {sound.name: sound.model_dump_json() for sound in factory_sounds()}
        if held == now:
            return
        db.execute("DELETE FROM sounds WHERE factory = 1")
        for sound in factory_sounds():
            self._insert(db, sound, {}, measured_features(sound.name), factory=True)

    @staticmethod
    def _insert(
        db: sqlite3.Connection, sound: SavedSound, clips: dict[str, AudioData], f: Features, *, factory: bool
    ) -> int:
        row = db.execute(
            "INSERT INTO sounds (name, role, tags, notes, factory, sound, centroid_hz, attack_ms, decay_ms, side_share) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                sound.name, sound.role, json.dumps(sound.tags), sound.notes, int(factory), sound.model_dump_json(),
                *(None if math.isnan(v) else v for v in (f.centroid_hz, f.attack_ms, f.decay_ms, f.side_share)),
            ),
        )  # fmt: skip
        assert row.lastrowid is not None
        for name, clip in clips.items():
            held = io.BytesIO()
            soundfile.write(held, clip.data.T, clip.rate_hz, format="FLAC", subtype="PCM_24")
            db.execute("INSERT INTO clips VALUES (?, ?, ?)", (row.lastrowid, name, held.getvalue()))
        return row.lastrowid

    def add(self, sound: SavedSound, clips: dict[str, AudioData] | None = None) -> int:
        """Measure a sound and keep it; returns its number."""
        clips = clips or {}
        audio = {name: resample(c.stereo(), c.rate_hz, 48000) for name, c in clips.items()}
        features = features_of(probe_note(sound, audio.__getitem__))
        with self._read("changed; make room, or ask whoever may write there") as db:
            return self._insert(db, sound, clips, features, factory=False)

    # --- chains and phrases --------------------------------------------------------------------------------

    def keep(self, kind: str, name: str, notes: str, text: str) -> int:
        """A chain (``devices``) or a ``phrase``, as copied; returns its number.

        Raises
        ------
        ParameterError : it is nothing of that kind, or has no name.
        """
        found = from_text(text)
        if found is None or found.what.type != kind:
            raise ParameterError(f"that is no {kind} to keep")
        if not name.strip():
            raise ParameterError("what is kept needs a name")
        with self._read("changed; make room, or ask whoever may write there") as db:
            row = db.execute(
                "INSERT INTO kept (kind, name, notes, text) VALUES (?, ?, ?, ?)",
                (kind, name.strip()[:120], notes[:2000], text),
            )
            assert row.lastrowid is not None
            return row.lastrowid

    def kept(self, kind: str, words: str = "") -> list[Kept]:
        """Of a kind, by name; those whose name or note has all of the words."""
        with self._read() as db:
            rows = db.execute(
                "SELECT id, name, notes, text FROM kept WHERE kind = ? ORDER BY name COLLATE NOCASE, id", (kind,)
            ).fetchall()
        found = [Kept(int(i), str(name), str(notes), str(text)) for i, name, notes, text in rows]
        wanted = words.lower().split()
        return [k for k in found if all(w in f"{k.name} {k.notes}".lower() for w in wanted)]

    def forget(self, number: int) -> None:
        with self._read() as db:
            db.execute("DELETE FROM kept WHERE id = ?", (number,))

    # --- sounds ----------------------------------------------------------------------------------------------

    def remove(self, number: int) -> None:
        """Raises ParameterError: a factory sound stays."""
        with self._read() as db:
            if not db.execute("DELETE FROM sounds WHERE id = ? AND factory = 0", (number,)).rowcount:
                raise ParameterError("a factory sound cannot be taken out of the library")

    def sound(self, number: int) -> tuple[SavedSound, dict[str, AudioData]]:
        """A sound and its clips by the names its layers use. Raises ParameterError where there is none."""
        with self._read() as db:
            row = db.execute("SELECT sound FROM sounds WHERE id = ?", (number,)).fetchone()
            if row is None:
                raise ParameterError(f"the library has no sound {number}")
            clips = {}
            for name, blob in db.execute("SELECT name, audio FROM clips WHERE sound = ?", (number,)):
                data, rate = soundfile.read(io.BytesIO(blob), always_2d=True)
                clips[name] = AudioData(data.T.copy(), rate, "PCM_24", "FLAC")
            return SavedSound.model_validate_json(row[0]), clips

    def find(
        self, *, text: str = "", role: str | None = None, order: str = "by name", comparison: str | None = None,
        beside: int | None = None,
    ) -> list[Entry]:  # fmt: skip
        """Sounds whose name, tags or notes hold every word of ``text``, of a role, and as ``comparison`` says of them beside
        the sound ``beside``: such as brighter than it, or with the same attack."""
        where: list[str] = ["1"]
        values: list[str | float] = []
        for word in text.split():
            where.append("(name || ' ' || tags || ' ' || notes) LIKE ? ESCAPE '\\'")
            values.append("%" + word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%")
        if role is not None:
            where.append("role = ?")
            values.append(role)
        with self._read() as db:
            if comparison is not None and beside is not None:
                there = db.execute("SELECT centroid_hz, attack_ms, decay_ms, side_share FROM sounds WHERE id = ?", (beside,)).fetchone()  # fmt: skip
                if there is None:
                    raise ParameterError(f"the library has no sound {beside}")
                more, given = _compared(comparison, there)
                where += [more, "id != ?"]
                values += [*given, beside]
            rows = db.execute(
                "SELECT id, name, role, tags, notes, factory, centroid_hz, attack_ms, decay_ms, side_share FROM sounds "
                f"WHERE {' AND '.join(where)} ORDER BY {ORDERS[order]}, name COLLATE NOCASE",
                values,
            ).fetchall()
            return [_entry(row) for row in rows]


def _compared(comparison: str, there: tuple[float | None, ...]) -> tuple[str, list[float]]:
    """A condition beside a sound's features; one that has none compares with nothing."""
    centroid, attack, decay, side = (math.nan if v is None else v for v in there)
    if comparison == "same attack as":
        return "attack_ms BETWEEN ? AND ?", [attack / _SAME_ATTACK, attack * _SAME_ATTACK]
    column, sign, value = {
        "brighter than": ("centroid_hz", ">", centroid), "darker than": ("centroid_hz", "<", centroid),
        "longer than": ("decay_ms", ">", decay), "shorter than": ("decay_ms", "<", decay),
        "wider than": ("side_share", ">", side),
    }[comparison]  # fmt: skip
    return (f"{column} {sign} ?", [value]) if math.isfinite(value) else ("0", [])


def _entry(row: tuple[Any, ...]) -> Entry:
    number, name, role, tags, notes, factory, *features = row
    measured = Features(*(math.nan if value is None else float(value) for value in features))
    return Entry(number, name, role, tuple(json.loads(tags)), notes, bool(factory), measured)
