"""The journal beside a project: what happened since the last save, so that a crash loses next to nothing.

One line a change: ``{"parts": [new ones], "session": …, "trial": …, "saved_log": n, "log": [new entries]}``; versions are named
by digest, and each part is written once, in the project or in the first line that needs it. Saving the project ends the
journal. The newest complete line counts; one that a crash cut in half is passed over.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

from zygotone.errors import BadFileError
from zygotone.session.history import LogEntry
from zygotone.session.migrations import upgraded
from zygotone.session.models import Session
from zygotone.session.project_file import Project, assets_needed, log_fields, present, read_entry, read_present
from zygotone.session.value import read_as_sound
from zygotone.session.versions import PartReader, PartWriter, parse_model, part_digests

# Past this the journal is begun anew with only its newest line.
_MAX_BYTES = 32 << 20


def journal_path(project: Path) -> Path:
    return project.with_name(project.name + ".journal")


class Journal:
    """Writes the changes of one project since a save. Used by one thread at a time."""

    def __init__(self, path: Path, saved: Project) -> None:
        """``saved`` is what the project file holds already."""
        self.path = path
        self._saved_log = len(saved.log)
        self._saved_parts = {digest for version in saved.versions for digest in part_digests(version)}
        self._known: Iterable[str] = self._saved_parts

    def write(self, project: Project) -> None:
        """Append the present state.

        Raises
        ------
        OSError : it cannot be written.
        """
        target = journal_path(self.path)
        there = target.stat().st_size if target.exists() else 0
        if there == 0 or there > _MAX_BYTES:
            self._known = self._saved_parts
        parts = PartWriter(self._known)
        line = {
            **present(project, parts),
            "saved_log": self._saved_log,
            "log": [log_fields(entry, parts) for entry in project.log[self._saved_log :]],
        }
        parts_text = ",".join(parts.new.values())
        text = json.dumps(line, ensure_ascii=False, separators=(",", ":"))
        with open(target, "wb" if there > _MAX_BYTES else "ab") as f:
            f.write(f'{{"parts":[{parts_text}],{text[1:]}\n'.encode())
            f.flush()
            os.fsync(f.fileno())
        self._known = parts.known


def end_journal(path: Path) -> None:
    journal_path(path).unlink(missing_ok=True)


def recover(path: Path, saved: Project) -> Project | None:
    """The state of the newest good line, or None where there is nothing to recover.

    Clips that were added after the last save are in the store only if the caller still has them, so a line
    that needs a clip the file does not hold is passed over for an older one.
    """
    target = journal_path(path)
    if not target.exists():
        return None
    reader = PartReader(target)
    reader.add(_saved_lines(saved))
    lines = [line for text in target.read_bytes().splitlines() if (line := _entered(text, reader)) is not None]
    for data in reversed(lines):
        read = reader.session if "parts" in data else _first_version
        try:
            session, trial = read_present(data, read, target, "journal")
            if data["saved_log"] > len(saved.log):
                continue
            new: tuple[LogEntry, ...] = tuple(read_entry(e, read, target, "journal log") for e in data["log"])
        except (BadFileError, ValueError, KeyError, TypeError, RecursionError):
            continue
        found = replace(saved, session=session, trial=trial, log=(*saved.log[: data["saved_log"]], *new))
        if all(asset_id in saved.store for asset_id in assets_needed(found)):
            return found
    return None


def _saved_lines(saved: Project) -> Iterator[tuple[Any, str]]:
    """The parts that the project file holds, which lines of the journal name."""
    parts = PartWriter()
    present(saved, parts)
    for entry in saved.log:
        log_fields(entry, parts)
    for line in parts.new.values():
        yield json.loads(line), "project"


def _entered(text: bytes, reader: PartReader) -> dict[str, Any] | None:
    """A line of the journal, its parts known to ``reader``; None where it is damaged."""
    try:
        data = json.loads(text)
        if not isinstance(data, dict):
            return None
        known = reader.known
        reader.add((part, "journal") for part in data.get("parts", ()) if part["digest"] not in known)
    except (BadFileError, ValueError, KeyError, TypeError, RecursionError):
        return None
    return data


def _first_version(data: Any, file: object, place: str) -> Session:
    """A session in a journal that an older version of the program left."""
    session = parse_model(Session, upgraded(data), file, place)
    read_as_sound(session)
    return session
