"""The journal beside a project: what happened since the last save, so that a crash loses next to nothing.

One line a change: ``{"parts": [new ones], "session": …, "trial": …, "saved_log": n, "log": [new entries]}``; versions are named
by digest, and each part is written once, in the project or in the first line that needs it. Saving the project ends the
journal. The newest complete line counts; one that a crash cut in half is passed over.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

from zygotone.errors import BadFileError
from zygotone.plain_files import append_line, open_plain, replace_file, why_not
from zygotone.session.audio_store import AudioStore, Blob
from zygotone.session.history import LogEntry
from zygotone.session.migrations import upgraded
from zygotone.session.models import Asset, Session
from zygotone.session.parsing import nothing_let_go, parse_model
from zygotone.session.project_file import Project, assets_needed, log_fields, present, read_entry, read_present
from zygotone.session.value import read_as_sound
from zygotone.session.versions import PartReader, PartWriter, part_digests

# Past this the journal is begun anew with only its newest line.
_MAX_BYTES = 32 << 20


def journal_path(project: Path) -> Path:
    return project.with_name(project.name + ".journal")


class Journal:
    """Writes the changes of one project since a save. Used by one thread at a time."""

    def __init__(self, path: Path, saved: Project | None) -> None:
        """``saved`` is what the project file holds already; None where there is no file yet."""
        self.path = path
        self._saved_log = len(saved.log) if saved is not None else 0
        versions = saved.versions if saved is not None else ()
        self._saved_parts = {digest for version in versions for digest in part_digests(version)}
        self._known: Iterable[str] = self._saved_parts

    def write(self, project: Project) -> None:
        """Append the present state.

        Raises
        ------
        BadFileError : it cannot be written; what was written before is still there.
        """
        target = journal_path(self.path)
        try:
            there = target.lstat().st_size if os.path.lexists(target) else 0
            anew = there == 0 or there > _MAX_BYTES
            parts = PartWriter(self._saved_parts if anew else self._known)
            line = {
                **present(project, parts),
                "saved_log": self._saved_log,
                "log": [log_fields(entry, parts) for entry in project.log[self._saved_log :]],
            }
            text = json.dumps(line, ensure_ascii=False, separators=(",", ":"))
            whole = f'{{"parts":[{",".join(parts.new.values())}],{text[1:]}'.encode()
            if there > _MAX_BYTES:
                replace_file(target, lambda f: f.write(whole + b"\n"))
            else:
                append_line(target, whole)
        except OSError as error:
            raise BadFileError(target, "", f"the journal cannot be written: {why_not(error)}") from None
        self._known = parts.known


def end_journal(path: Path) -> None:
    """What it holds is saved, or not wanted. One that cannot be taken away is emptied."""
    target = journal_path(path)
    try:
        target.unlink(missing_ok=True)
    except OSError:
        with suppress(OSError):
            os.truncate(target, 0)


@nothing_let_go()
def recover(path: Path, saved: Project | None, clips: Path | None = None) -> Project | None:
    """The state of the newest good line, or None where there is nothing to recover. ``saved`` is what the file holds, if there is
    one.

    Clips that were added after the last save lie in the folder ``clips``; a line that needs one that is neither there nor in the
    file is passed over for an older one.

    Raises
    ------
    BadFileError : there is a journal, but it is no ordinary file, or may not be read.
    """
    target = journal_path(path)
    if not os.path.lexists(target):
        return None
    reader = PartReader(target)
    if saved is not None:
        reader.add(_saved_lines(saved))
    with open_plain(target) as file:
        texts = file.read().splitlines()
    lines = [line for text in texts if (line := _entered(text, reader)) is not None]
    before = saved.log if saved is not None else ()
    for data in reversed(lines):
        read = reader.session if "parts" in data else _first_version
        try:
            session, trial, second = read_present(data, read, target, "journal")
            if data["saved_log"] > len(before):
                continue
            new: tuple[LogEntry, ...] = tuple(read_entry(e, read, target, "journal log") for e in data["log"])
        except (BadFileError, ValueError, KeyError, TypeError, RecursionError):
            continue
        store = saved.store if saved is not None else AudioStore()
        found = Project(session, (*before[: data["saved_log"]], *new), trial, store, second)
        if all(_at_hand(asset, store, clips) for asset in assets_needed(found).values()):
            return found
    return None


def _at_hand(asset: Asset, store: AudioStore, clips: Path | None) -> bool:
    """Whether a clip is in the store, or can be put there."""
    if asset.id in store:
        return True
    lies = clips / f"{asset.id}.flac" if clips is not None else None
    if lies is None or lies.is_symlink() or not lies.is_file():
        return False
    store.add_blob(asset, Blob(lies, 0, lies.stat().st_size))
    return True


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
