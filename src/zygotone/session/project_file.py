"""The ``.zygotone`` file: a zip with session.json, log.jsonl, audio/ and README.txt. See docs/format.md.

A project may come from a stranger. Its members are read by name into memory, within limits; nothing is
unpacked to disk, and no name in it is ever used as a path.
"""

from __future__ import annotations

import json
import os
import re
import zipfile
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from zygotone.errors import BadFileError, ZygotoneError, one_line
from zygotone.session.audio_store import AudioStore, Blob
from zygotone.session.bench import LogEntry, Trial
from zygotone.session.models import Asset, Session

FORMAT_VERSION = 1
MAX_SESSION_BYTES = 64 << 20
MAX_LOG_BYTES = 512 << 20
MAX_MEMBERS = 20_000
_MEMBER = re.compile(r"^(session\.json|log\.jsonl|README\.txt|audio/[0-9a-f]{64}\.flac)$")
_EPOCH = (1980, 1, 1, 0, 0, 0)  # no time of day in the zip: the same project is the same bytes

README = """This is a Zygotone project. It is an ordinary zip file.

session.json  the song, its tracks, chains and instruments, as one JSON object
log.jsonl     what was found, tried, kept and dropped: one JSON object a line, oldest first
audio/        the clips, FLAC, 24 bits, each named by the SHA-256 of its samples

Everything the song needs to sound is in here. The format is described in Zygotone's docs/format.md.
"""

Migration = Callable[[dict[str, Any]], dict[str, Any]]
# From version n to n + 1. A file of an older version goes through all that follow.
MIGRATIONS: dict[int, Migration] = {}


@dataclass
class Project:
    """What a project file holds."""

    session: Session
    log: tuple[LogEntry, ...] = ()
    trial: Trial | None = None
    store: AudioStore = field(default_factory=AudioStore)


_M = TypeVar("_M", bound=BaseModel)


def parse_model(model: type[_M], data: Any, file: object, place: str) -> _M:
    """Raises BadFileError naming file, place and reason."""
    try:
        return model.model_validate(data)
    except ValidationError as error:
        raise BadFileError(file, place, one_line(error)) from None
    except (ZygotoneError, RecursionError) as error:
        raise BadFileError(file, place, str(error)) from None


def parse_json(text: bytes, file: object, place: str) -> Any:
    try:
        return json.loads(text)
    except RecursionError:
        raise BadFileError(file, place, "is nested too deeply") from None
    except UnicodeDecodeError:
        raise BadFileError(file, place, "is not text") from None
    except json.JSONDecodeError as error:
        raise BadFileError(file, f"{place} line {error.lineno}", f"is not JSON ({error.msg.lower()})") from None


def assets_needed(session: Session, log: Iterable[LogEntry], trial: Trial | None) -> dict[str, Asset]:
    """Every clip that the session, the trial or a version in the log plays."""
    versions = [session, *(e.session for e in log if e.session), *([trial.session] if trial else [])]
    return {asset.id: asset for version in versions for asset in version.assets}


def save_project(path: str | Path, project: Project) -> None:
    """Write the whole project to a temporary file beside ``path``, flush it to disk, then rename it.

    Raises
    ------
    BadFileError : the place cannot be written; what was there before is untouched.
    """
    path = Path(path)
    temporary = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        with open(temporary, "wb") as raw:
            with zipfile.ZipFile(raw, "w", zipfile.ZIP_DEFLATED) as z:
                _put(z, "README.txt", README.encode())
                _put(z, "session.json", session_json(project.session, project.trial))
                _put(z, "log.jsonl", "".join(e.model_dump_json(exclude_none=True) + "\n" for e in project.log).encode())
                needed = assets_needed(project.session, project.log, project.trial)
                # What only undo could bring back goes out of the file, but not out of reach.
                project.store.hold_others(needed)
                for asset_id in needed:
                    # FLAC does not shrink further; stored, it also cannot unpack to more than the file is.
                    _put(z, f"audio/{asset_id}.flac", project.store.blob(asset_id), zipfile.ZIP_STORED)
            raw.flush()
            os.fsync(raw.fileno())
        os.replace(temporary, path)
        _sync_folder(path.parent)
        project.store.moved(_blobs(path, needed))
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise BadFileError(path, "", f"cannot be saved ({(error.strerror or str(error)).lower()})") from None
    except BaseException:
        temporary.unlink(missing_ok=True)
        raise


def session_json(session: Session, trial: Trial | None) -> bytes:
    data: dict[str, Any] = {"format": "zygotone", "version": FORMAT_VERSION, "session": session.model_dump(mode="json")}
    if trial is not None:
        data["trial"] = trial.model_dump(mode="json")
    return json.dumps(data, indent=1, ensure_ascii=False).encode()


def _put(z: zipfile.ZipFile, name: str, data: bytes, method: int = zipfile.ZIP_DEFLATED) -> None:
    info = zipfile.ZipInfo(name, _EPOCH)
    info.compress_type = method
    info.external_attr = 0o644 << 16
    z.writestr(info, data)


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def load_project(path: str | Path) -> Project:
    """Read and check a project.

    Raises
    ------
    BadFileError : anything at all is wrong with it.
    """
    path = Path(path)
    try:
        if not path.exists():
            raise BadFileError(path, "", "there is no such file")
        with zipfile.ZipFile(path) as z:
            _check_members(z, path)
            data = parse_json(_read(z, "session.json", MAX_SESSION_BYTES, path), path, "session.json")
            log_text = _read(z, "log.jsonl", MAX_LOG_BYTES, path) if "log.jsonl" in z.namelist() else b""
            held = {name[6:-5] for name in z.namelist() if name.startswith("audio/")}
    except (zipfile.BadZipFile, zipfile.LargeZipFile, NotImplementedError, EOFError):
        raise BadFileError(path, "", "is not a Zygotone project (not a readable zip file)") from None
    except OSError as error:
        raise BadFileError(path, "", (error.strerror or str(error)).lower()) from None
    session, trial = parse_session(data, path)
    log = tuple(
        parse_model(LogEntry, parse_json(line, path, f"log.jsonl line {n}"), path, f"log.jsonl line {n}")
        for n, line in enumerate(log_text.splitlines(), 1)
        if line.strip()
    )
    store = AudioStore()
    needed = assets_needed(session, log, trial)
    for asset_id in needed:
        if asset_id not in held:
            raise BadFileError(path, f"audio/{asset_id}.flac", "is missing from the project")
    try:
        for asset_id, blob in _blobs(path, needed).items():
            store.add_blob(asset_id, blob)
    except (OSError, zipfile.BadZipFile) as error:
        raise BadFileError(path, "audio", f"cannot be read ({str(error).lower()})") from None
    return Project(session, log, trial, store)


def parse_session(data: Any, file: object) -> tuple[Session, Trial | None]:
    if not isinstance(data, dict) or data.get("format") != "zygotone":
        raise BadFileError(file, "session.json", "does not say that it is a Zygotone session")
    version = data.get("version")
    if not isinstance(version, int) or version < 1:
        raise BadFileError(file, "session.json version", f"is {version!r}, not a number from 1")
    if version > FORMAT_VERSION:
        raise BadFileError(
            file,
            "session.json version",
            f"is {version}; this program reads up to {FORMAT_VERSION}, a newer one is needed",
        )
    for step in range(version, FORMAT_VERSION):
        data = MIGRATIONS[step](data)
    session = parse_model(Session, data.get("session"), file, "session.json session")
    trial = None
    if data.get("trial") is not None:
        trial = parse_model(Trial, data["trial"], file, "session.json trial")
    return session, trial


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
    except (zipfile.BadZipFile, RuntimeError, EOFError, OSError) as error:
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
