"""The ``.zygotone`` file: a zip with session.json, parts.jsonl, log.jsonl, audio/ and README.txt. See docs/format.md.

A project may come from a stranger. Its members are read by name into memory, within limits; nothing is
unpacked to disk, and no name in it is ever used as a path.
"""

from __future__ import annotations

import json
import os
import re
import zipfile
import zlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

from zygotone.errors import BadFileError
from zygotone.plain_files import open_plain, replace_file, tidy_parts
from zygotone.session.audio_store import AudioStore, Blob
from zygotone.session.history import LogEntry, Trial
from zygotone.session.migrations import upgraded
from zygotone.session.models import Asset, Session
from zygotone.session.parsing import nothing_let_go, parse_json, parse_model
from zygotone.session.value import read_as_sound
from zygotone.session.versions import PartReader, PartWriter, parts_as_lines

FORMAT_VERSION = 2
MAX_SESSION_BYTES = 64 << 20
MAX_PARTS_BYTES = 512 << 20
MAX_LOG_BYTES = 512 << 20
MAX_MEMBERS = 20_000
_MEMBER = re.compile(r"^(session\.json|parts\.jsonl|log\.jsonl|README\.txt|audio/[0-9a-f]{64}\.flac)$")
_EPOCH = (1980, 1, 1, 0, 0, 0)  # no time of day in the zip: the same project is the same bytes

README = """This is a Zygotone project. It is an ordinary zip file.

parts.jsonl   the song, its tracks, chains and instruments, and every version of them that the log
              needs: one JSON object a line, each once, under a digest that others name it by
session.json  which version is the present one, and what is on trial
log.jsonl     what was found, tried, kept and dropped: one JSON object a line, oldest first
audio/        the clips, FLAC, 24 bits, each named by the SHA-256 of its samples

Everything the song needs to sound is in here. The format is described in Zygotone's docs/format.md.
"""


@dataclass
class Project:
    """What a project file holds."""

    session: Session
    log: tuple[LogEntry, ...] = ()
    trial: Trial | None = None
    store: AudioStore = field(default_factory=AudioStore)
    second: Trial | None = None  # a trial that stands aside

    @property
    def versions(self) -> Iterator[Session]:
        """The present session, those of the trials, and those of the log."""
        yield self.session
        yield from (trial.session for trial in (self.trial, self.second) if trial is not None)
        yield from (entry.session for entry in self.log if entry.session is not None)


def assets_needed(project: Project) -> dict[str, Asset]:
    """Every clip that the session, the trial or a version in the log plays."""
    return {asset.id: asset for version in project.versions for asset in version.assets}


def save_project(path: str | Path, project: Project) -> None:
    """Write the whole project to a temporary file beside ``path``, flush it to disk, then rename it.

    Raises
    ------
    BadFileError : the place cannot be written; what was there before is untouched.
    """
    path = Path(path)
    tidy_parts(path)
    needed = assets_needed(project)

    def write(raw: BinaryIO) -> None:
        with zipfile.ZipFile(raw, "w", zipfile.ZIP_DEFLATED) as z:
            _put(z, "README.txt", README.encode())
            parts = PartWriter()
            head = {"format": "zygotone", "version": FORMAT_VERSION, **present(project, parts)}
            log = "".join(_line(log_fields(entry, parts)) for entry in project.log)
            _put(z, "session.json", json.dumps(head, indent=1, ensure_ascii=False).encode())
            _put(z, "parts.jsonl", "".join(line + "\n" for line in parts.new.values()).encode())
            _put(z, "log.jsonl", log.encode())
            # What only undo could bring back goes out of the file, but not out of reach.
            project.store.hold_others(needed)
            for asset_id in needed:
                # FLAC does not shrink further; stored, it also cannot unpack to more than the file is.
                _put(z, f"audio/{asset_id}.flac", project.store.blob(asset_id), zipfile.ZIP_STORED)

    replace_file(path, write)
    project.store.moved(_blobs(path, needed))


def present(project: Project, parts: PartWriter) -> dict[str, Any]:
    """The present version, and the trials, with their sessions entered into ``parts``."""
    data: dict[str, Any] = {"session": parts.session(project.session)}
    for name, trial in (("trial", project.trial), ("second", project.second)):
        if trial is not None:
            fields = trial.model_dump(mode="json", exclude={"session"})
            data[name] = {**fields, "session": parts.session(trial.session)}
    return data


def log_fields(entry: LogEntry, parts: PartWriter) -> dict[str, Any]:
    """A log entry, its version entered into ``parts``."""
    data = entry.model_dump(mode="json", exclude_none=True, exclude={"session"})
    return data if entry.session is None else {**data, "session": parts.session(entry.session)}


def _line(data: dict[str, Any]) -> str:
    return json.dumps(data, ensure_ascii=False, separators=(",", ":")) + "\n"


def _put(z: zipfile.ZipFile, name: str, data: bytes, method: int = zipfile.ZIP_DEFLATED) -> None:
    info = zipfile.ZipInfo(name, _EPOCH)
    info.compress_type = method
    info.external_attr = 0o644 << 16
    z.writestr(info, data)


@nothing_let_go()
def load_project(path: str | Path) -> Project:
    """Read and check a project.

    Raises
    ------
    BadFileError : anything at all is wrong with it.
    """
    path = Path(path)
    try:
        with open_plain(path) as raw, zipfile.ZipFile(raw) as z:
            _check_members(z, path)
            head = parse_json(_read(z, "session.json", MAX_SESSION_BYTES, path), path, "session.json")
            texts = {
                name: _read(z, name, limit, path) if name in z.namelist() else b""
                for name, limit in (("parts.jsonl", MAX_PARTS_BYTES), ("log.jsonl", MAX_LOG_BYTES))
            }
            held = {name[6:-5] for name in z.namelist() if name.startswith("audio/")}
    except (zipfile.BadZipFile, zipfile.LargeZipFile, NotImplementedError, EOFError):
        raise BadFileError(path, "", "is not a Zygotone project (not a readable zip file)") from None
    except OSError as error:
        raise BadFileError(path, "", (error.strerror or str(error)).lower()) from None
    version = _version_of(head, path)
    reader = PartReader(path)
    reader.add(parts_as_lines(texts["parts.jsonl"], path, "parts.jsonl"))
    read = _whole if version == 1 else reader.session
    session, trial, second = read_present(head, read, path, "session.json")
    log = tuple(
        read_entry(data, read, path, place) for data, place in parts_as_lines(texts["log.jsonl"], path, "log.jsonl")
    )
    project = Project(session, log, trial, second=second)
    needed = assets_needed(project)
    for asset_id in needed:
        if asset_id not in held:
            raise BadFileError(path, f"audio/{asset_id}.flac", "is missing from the project")
    try:
        for asset_id, blob in _blobs(path, needed).items():
            project.store.add_blob(needed[asset_id], blob)
    except (OSError, zipfile.BadZipFile) as error:
        raise BadFileError(path, "audio", f"cannot be read ({str(error).lower()})") from None
    return project


def read_present(
    head: Any, read: Callable[[Any, object, str], Session], file: object, place: str
) -> tuple[Session, Trial | None, Trial | None]:
    """What ``present`` gave; ``read`` turns what stands for a session into one.

    Raises
    ------
    BadFileError : anything at all is wrong with it.
    """
    session = read(head.get("session"), file, f"{place} session")
    trials: list[Trial | None] = []
    for name in ("trial", "second"):
        given = head.get(name)
        if given is not None and not isinstance(given, dict):
            raise BadFileError(file, f"{place} {name}", "is no object")
        if given is None:
            trials.append(None)
            continue
        b = read(given.get("session"), file, f"{place} {name} session")
        trials.append(parse_model(Trial, {**given, "session": b}, file, f"{place} {name}"))
    return session, trials[0], trials[1]


def read_entry(data: Any, read: Callable[[Any, object, str], Session], file: object, place: str) -> LogEntry:
    """A log entry as ``log_fields`` gave it. Raises BadFileError."""
    if isinstance(data, dict) and data.get("session") is not None:
        data = {**data, "session": read(data["session"], file, f"{place} session")}
    return parse_model(LogEntry, data, file, place)


def _whole(data: Any, file: object, place: str) -> Session:
    """A session of the first version of the format, which had each whole where it was needed."""
    session = parse_model(Session, upgraded(data), file, place)
    read_as_sound(session)
    return session


def _version_of(head: Any, file: object) -> int:
    if not isinstance(head, dict) or head.get("format") != "zygotone":
        raise BadFileError(file, "session.json", "does not say that it is a Zygotone session")
    version = head.get("version")
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise BadFileError(file, "session.json version", f"is {str(version)[:20]!r}, not a number from 1")
    if version > FORMAT_VERSION:
        raise BadFileError(
            file,
            "session.json version",
            f"is {version}; this program reads up to {FORMAT_VERSION}, a newer one is needed",
        )
    return version


def _check_members(z: zipfile.ZipFile, path: Path) -> None:
    members = z.infolist()
    if len(members) > MAX_MEMBERS:
        raise BadFileError(path, "", f"holds {len(members)} members, more than {MAX_MEMBERS}")
    for info in members:
        if not _MEMBER.match(info.filename):
            raise BadFileError(path, info.filename[:80], "is not a member that a project has")
        if info.filename.startswith("audio/") and info.compress_type != zipfile.ZIP_STORED:
            raise BadFileError(path, info.filename[:80], "is packed; audio is stored as it is")
    if len({info.filename for info in members}) != len(members):
        raise BadFileError(path, "", "holds two members of one name")
    if "session.json" not in z.namelist():
        raise BadFileError(path, "session.json", "is missing")


def _read(z: zipfile.ZipFile, name: str, limit: int, path: Path) -> bytes:
    """A member, never more than ``limit`` bytes of it, whatever the zip's directory claims."""
    if z.getinfo(name).file_size > limit:
        raise BadFileError(
            path, name, f"would unpack to {z.getinfo(name).file_size >> 20} MiB, more than {limit >> 20}"
        )
    try:
        with z.open(name) as member:
            data = member.read(limit + 1)
    except (zipfile.BadZipFile, zlib.error, RuntimeError, EOFError, OSError) as error:
        raise BadFileError(path, name, f"cannot be unpacked ({str(error).lower()})") from None
    if len(data) > limit:
        raise BadFileError(path, name, f"unpacks to more than {limit >> 20} MiB")
    return data


def _blobs(path: Path, asset_ids: Iterable[str]) -> dict[str, Blob]:
    """Where clips lie within a project file; they are stored as they are.

    Raises
    ------
    BadFileError : the zip's directory does not fit what it lists.
    """
    found: dict[str, Blob] = {}
    with zipfile.ZipFile(path) as z, open(path, "rb") as raw:
        size = os.fstat(raw.fileno()).st_size
        for asset_id in asset_ids:
            info = z.getinfo(f"audio/{asset_id}.flac")
            # The local header repeats name and extra field, with lengths of its own (APPNOTE 4.3.7).
            raw.seek(info.header_offset)
            head = raw.read(30)
            if len(head) < 30 or head[:4] != b"PK\x03\x04":
                raise BadFileError(path, info.filename, "is not where the zip says")
            start = (
                info.header_offset + 30 + int.from_bytes(head[26:28], "little") + int.from_bytes(head[28:30], "little")
            )
            if info.file_size != info.compress_size or start + info.file_size > size:
                raise BadFileError(path, info.filename, "lies about its size")
            found[asset_id] = Blob(path, start, info.file_size)
    return found
