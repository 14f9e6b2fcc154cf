"""The project's own audio: clips at the session's rate, 24 bits, found by the hash of their samples."""

from __future__ import annotations

import hashlib
import io
import queue
import shutil
import tempfile
import threading
import weakref
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from zygotone.dsp.types import FloatArray, Stereo
from zygotone.errors import BadFileError
from zygotone.plain_files import replace_file
from zygotone.session.audio_files import AudioData, resample
from zygotone.session.held import Held
from zygotone.session.mapped import MappedCache, Stretches, sounds
from zygotone.session.models import Asset

_FULL = 2.0**23
_PASSING = "zygotone-"  # of folders that are there for as long as the process is


def _quantize(data: FloatArray) -> tuple[np.ndarray, float]:
    """Integers of 24 bits (frames, channels) and the factor that restores ``data``, 1 if it fits as it is."""
    peak = float(np.max(np.abs(data), initial=0.0))
    scale = peak if peak > 1.0 - 1.0 / _FULL else 1.0
    steps = np.round(data.T / scale * _FULL)
    return np.clip(steps, -_FULL, _FULL - 1).astype(np.int32), scale


def asset_hash(samples: np.ndarray, rate_hz: int) -> str:
    """SHA-256 of rate, channels and the 24-bit samples as little-endian int32; the FLAC encoder has no say."""
    head = f"{rate_hz} {samples.shape[1]} ".encode()
    return hashlib.sha256(head + np.ascontiguousarray(samples, dtype="<i4").tobytes()).hexdigest()


def encode(samples: np.ndarray, rate_hz: int) -> bytes:
    """As FLAC: samples (frames, channels), 24 bits in integers of 32."""
    buffer = io.BytesIO()
    # libsndfile takes 32-bit integers and keeps the upper 24.
    soundfile.write(buffer, samples << 8, rate_hz, format="FLAC", subtype="PCM_24")
    return buffer.getvalue()


def decode(blob: bytes, asset: Asset, rate_hz: int, *, file: object = "project") -> Stereo:
    """Shape (2, frames). Raises BadFileError where the bytes are not what the asset says."""
    place = f"audio/{asset.id}.flac"
    try:
        with soundfile.SoundFile(io.BytesIO(blob)) as f:
            _check_promise(f, asset, rate_hz, file)
            samples = f.read(dtype="int32", always_2d=True) >> 8
    except soundfile.LibsndfileError:
        raise BadFileError(file, place, "cannot be decoded") from None
    if asset_hash(samples, rate_hz) != asset.id:
        raise BadFileError(file, place, "does not hold the audio its name promises")
    data = samples.T * (asset.scale / _FULL)
    return np.ascontiguousarray(np.broadcast_to(data, (2, data.shape[1])), dtype=np.float64)


def decoded_blocks(blob: Blob, asset: Asset, rate_hz: int) -> Iterator[FloatArray]:
    """Consecutive blocks (channels, n) of a clip, checked as ``decode`` does; the last word is after the last block.

    Raises
    ------
    BadFileError : the bytes are not what the asset says.
    """
    place = f"audio/{asset.id}.flac"
    found = hashlib.sha256(f"{rate_hz} {asset.channels} ".encode())
    try:
        with soundfile.SoundFile(io.BufferedReader(blob.open(), 1 << 18)) as f:
            _check_promise(f, asset, rate_hz, "project")
            for block in f.blocks(blocksize=_CHUNK_FRAMES, dtype="int32", always_2d=True):
                samples = block >> 8
                found.update(np.ascontiguousarray(samples, dtype="<i4").tobytes())
                yield samples.T * (asset.scale / _FULL)
    except (OSError, soundfile.LibsndfileError):
        raise BadFileError("project", place, "cannot be decoded") from None
    if found.hexdigest() != asset.id:
        raise BadFileError("project", place, "does not hold the audio its name promises")


LONG_FRAMES = 6_000_000  # two minutes: longer clips are read from disk as they play
_CHUNK_FRAMES = 1 << 16


class FileRegion(io.RawIOBase):
    """A stretch of a file as a file of its own, so that a clip inside a project is read where it lies."""

    def __init__(self, path: Path, offset: int, length: int) -> None:
        self._file = open(path, "rb", buffering=0)  # noqa: SIM115  (closed with this object)
        self._offset, self._length, self._at = offset, length, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._length}[whence]
        self._at = max(0, base + offset)
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: Any) -> int:
        view = memoryview(buffer)[: max(0, self._length - self._at)]
        self._file.seek(self._offset + self._at)
        count = self._file.readinto(view)
        self._at += count
        return count

    def close(self) -> None:
        self._file.close()
        super().close()


@dataclass(frozen=True, slots=True)
class Blob:
    """Where an encoded clip lies: ``length`` bytes of a file from ``offset`` on."""

    path: Path
    offset: int
    length: int

    def open(self) -> FileRegion:
        return FileRegion(self.path, self.offset, self.length)

    def read(self) -> bytes:
        """Raises BadFileError where the file has gone or has become shorter."""
        try:
            with self.open() as region:
                data = region.read()
        except OSError as error:
            raise BadFileError(
                self.path, "", f"cannot be read any more ({(error.strerror or str(error)).lower()})"
            ) from None
        if data is None or len(data) != self.length:
            raise BadFileError(self.path, "", "has become shorter; the clip cannot be read any more")
        return data


class Clip:
    """Decoded audio of a clip, any stretch of it: ``read`` gives shape (2, frames), not to be written to."""

    frames: int

    def read(self, start: int, stop: int) -> Stereo:
        raise NotImplementedError


class HeldClip(Clip):
    """A clip that is wholly in memory."""

    def __init__(self, audio: Stereo) -> None:
        self._audio, self.frames = audio, audio.shape[1]

    def read(self, start: int, stop: int) -> Stereo:
        return self._audio[:, start:stop]


class MappedClip(Clip):
    """A clip that every process maps from one file, in single precision, which holds 24 bits."""

    def __init__(self, audio: FloatArray, sounding: Stretches | None = None) -> None:
        self._audio, self.frames, self._sounding = audio, audio.shape[1], sounding

    def read(self, start: int, stop: int) -> Stereo:
        if not sounds(self._sounding, start, stop):
            return np.zeros((2, max(0, min(stop, self.frames) - start)))
        part = np.asarray(self._audio[:, start:stop], dtype=np.float64)
        return part if len(part) == 2 else np.broadcast_to(part, (2, part.shape[1]))


class StreamedClip(Clip):
    """A long clip, decoded in pieces as it is read. What the file promises of itself is checked when it is opened."""

    def __init__(self, store: AudioStore, asset: Asset, rate_hz: int) -> None:
        self._store, self._asset, self._rate_hz = store, asset, rate_hz
        self.frames = asset.frames
        self._file: soundfile.SoundFile | None = None
        self._next = 0
        self._lock = threading.Lock()
        self._ahead: set[int] = set()  # chunks that are asked for

    def _opened(self) -> soundfile.SoundFile:
        if self._file is None:
            place = f"audio/{self._asset.id}.flac"
            try:
                self._file = soundfile.SoundFile(io.BufferedReader(self._store.blob_of(self._asset.id).open(), 1 << 18))
            except (OSError, soundfile.LibsndfileError):
                raise BadFileError("project", place, "cannot be decoded") from None
            _check_promise(self._file, self._asset, self._rate_hz, "project")
            self._next = 0
        return self._file

    def _chunk(self, number: int) -> Stereo:
        key = (self._asset.id, number)
        held = self._store.held_chunk(key)
        if held is not None:
            return held
        with self._lock:
            held = self._store.held_chunk(key)  # it may have come while this one waited
            if held is not None:
                return held
            file = self._opened()
            start = number * _CHUNK_FRAMES
            wanted = min(_CHUNK_FRAMES, self.frames - start)
            try:
                if self._next != start:
                    file.seek(start)
                data = file.read(wanted, dtype="float64", always_2d=True).T * self._asset.scale
            except (OSError, RuntimeError):
                raise BadFileError("project", f"audio/{self._asset.id}.flac", "cannot be decoded") from None
            self._next = start + wanted
        if data.shape[1] != wanted:
            raise BadFileError("project", f"audio/{self._asset.id}.flac", "is shorter than it promises")
        chunk = np.ascontiguousarray(np.broadcast_to(data, (2, wanted)))
        self._store.hold_chunk(key, chunk)
        return chunk

    def _want(self, number: int) -> None:
        """Has a chunk decoded elsewhere before somebody reads it here: who plays does not wait for files."""
        if number * _CHUNK_FRAMES >= self.frames or number in self._ahead:
            return
        if self._store.held_chunk((self._asset.id, number)) is not None:
            return
        self._ahead.add(number)

        def decode_it() -> None:
            try:
                self._chunk(number)
            except BadFileError:
                pass  # who reads it is told
            finally:
                self._ahead.discard(number)

        decode_ahead(decode_it)

    def read(self, start: int, stop: int) -> Stereo:
        parts = []
        at = start
        while at < stop:
            number, inside = divmod(at, _CHUNK_FRAMES)
            take = min(stop - at, _CHUNK_FRAMES - inside)
            parts.append(self._chunk(number)[:, inside : inside + take])
            at += take
        if stop > start:
            self._want((stop - 1) // _CHUNK_FRAMES + 1)
        return parts[0] if len(parts) == 1 else np.concatenate(parts, axis=1) if parts else np.zeros((2, 0))


_queue: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
_decoder: list[threading.Thread] = []
_beginning = threading.Lock()


def decode_ahead(work: Callable[[], None]) -> None:
    """Done soon, one after the other, in a thread of its own."""

    def loop() -> None:
        while True:
            _queue.get()()

    with _beginning:
        if not _decoder:
            _decoder.append(threading.Thread(target=loop, name="decoder", daemon=True))
            _decoder[0].start()
    _queue.put(work)


def _check_promise(file: soundfile.SoundFile, asset: Asset, rate_hz: int, where: object) -> None:
    if (file.channels, file.frames, file.samplerate) != (asset.channels, asset.frames, rate_hz):
        raise BadFileError(
            where, f"audio/{asset.id}.flac",
            f"is {file.frames} frames of {file.channels} channels at {file.samplerate} Hz, not what the session says",
        )  # fmt: skip


class AudioStore:
    """Encoded clips by asset id, each where it lies on disk; short ones are decoded whole when first needed, and the
    least used let go.

    Used from several threads.
    """

    def __init__(self, held: Held | None = None) -> None:
        self.held = held if held is not None else Held()  # shared with whoever renders and measures these clips
        self._blobs: dict[str, Blob] = {}
        self._assets: dict[str, Asset] = {}  # of those clips
        self._streamed: dict[str, StreamedClip] = {}
        self._lock = threading.RLock()
        self.mapped: MappedCache | None = None  # where decoded clips lie that other processes read too
        self._spool: Path | None = None  # clips that no project file holds yet

    def __contains__(self, asset_id: str) -> bool:
        return asset_id in self._blobs

    def add(self, audio: AudioData, name: str, rate_hz: int) -> Asset:
        """Take a clip in, resampled to the session's rate."""
        samples, scale = _quantize(resample(audio.data, audio.rate_hz, rate_hz))
        asset = Asset(
            id=asset_hash(samples, rate_hz), name=name, channels=samples.shape[1], frames=len(samples), scale=scale
        )
        if asset.id not in self._blobs:
            self._blobs[asset.id] = self._spooled(asset.id, encode(samples, rate_hz))
        self._assets[asset.id] = asset
        return asset

    def add_encoded(self, asset: Asset, data: bytes) -> Asset:
        """A clip as ``encode`` made it, at the session's rate; what ``decode`` refuses must not come here."""
        if asset.id not in self._blobs:
            self._blobs[asset.id] = self._spooled(asset.id, data)
        self._assets[asset.id] = asset
        return asset

    def _spooled(self, asset_id: str, data: bytes) -> Blob:
        """Aside, in a file. Raises BadFileError where there is no room for it."""
        if self._spool is None:
            self._spool = Path(tempfile.mkdtemp(prefix=_PASSING))
            weakref.finalize(self, shutil.rmtree, self._spool, ignore_errors=True)
        path = self._spool / f"{asset_id}.flac"
        replace_file(path, lambda f: f.write(data), what="kept aside")
        return Blob(path, 0, len(data))

    def keep_aside_in(self, folder: Path) -> None:
        """From now on clips that no project file holds lie there, and what lies elsewhere without one is brought.

        Raises
        ------
        BadFileError, OSError : there is no room for them there.
        """
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        with self._lock:
            old, self._spool = self._spool, folder
            for asset_id, blob in self._blobs.items():
                if blob.offset == 0 and blob.path.suffix == ".flac" and blob.path.parent != folder:
                    self._blobs[asset_id] = self._spooled(asset_id, blob.read())
            if old is not None and old != folder and old.name.startswith(_PASSING):
                shutil.rmtree(old, ignore_errors=True)  # nobody would take it away where this process is killed

    def add_blob(self, asset: Asset, blob: Blob) -> None:
        """A clip that lies in a file already."""
        self._blobs[asset.id], self._assets[asset.id] = blob, asset

    def blob_of(self, asset_id: str) -> Blob:
        return self._blobs[asset_id]

    def blob(self, asset_id: str) -> bytes:
        return self._blobs[asset_id].read()

    def hold_others(self, asset_ids: Collection[str]) -> None:
        """Copy every clip that is not among ``asset_ids`` aside, since the file it is in is about to lose it."""
        for asset_id in set(self._blobs) - set(asset_ids):
            blob = self._blobs[asset_id]
            if blob.path.parent != self._spool:
                self._blobs[asset_id] = self._spooled(asset_id, blob.read())

    def moved(self, blobs: Mapping[str, Blob]) -> None:
        """These clips lie in another file now; read them from there."""
        with self._lock:
            for asset_id, blob in blobs.items():
                old = self._blobs[asset_id]
                self._blobs[asset_id] = blob
                if old.path.parent == self._spool:
                    old.path.unlink(missing_ok=True)  # whoever has it open goes on reading it

    # --- decoded -------------------------------------------------------------------------------------------

    def clip(self, asset: Asset, rate_hz: int) -> Clip:
        """For playing: decoded once for all processes, where there is such a place. Else in memory if it is short, read from
        disk as it goes if it is long."""
        if (mapped := self._mapped_clip(asset, rate_hz)) is not None:
            return mapped
        if asset.frames <= LONG_FRAMES:
            return HeldClip(self.audio(asset, rate_hz))
        with self._lock:
            if asset.id not in self._blobs:
                raise BadFileError("project", f"audio/{asset.id}.flac", "is missing")
            if asset.id not in self._streamed:
                self._streamed[asset.id] = StreamedClip(self, asset, rate_hz)
            return self._streamed[asset.id]

    def _mapped_clip(self, asset: Asset, rate_hz: int) -> Clip | None:
        """Raises BadFileError where it is missing or damaged."""
        if self.mapped is None:
            return None
        with self._lock:
            if asset.id not in self._blobs:
                raise BadFileError("project", f"audio/{asset.id}.flac", "is missing")
            digest = hashlib.sha256(f"{asset.id} {rate_hz} {asset.scale!r}".encode()).hexdigest()
            audio = self.mapped.get(digest)
            if audio is None or audio.shape != (asset.channels, asset.frames):
                shape = (asset.channels, asset.frames)
                audio = self.mapped.fill(digest, shape, decoded_blocks(self._blobs[asset.id], asset, rate_hz))
            if audio is None:
                return None
            # A plain view, since slices of a map take their time.
            return MappedClip(np.asarray(audio), self.mapped.sounding(digest))

    def held_chunk(self, key: tuple[str, int]) -> Stereo | None:
        """A piece of a long clip, by asset and number, (2, frames); None where it is not held any more."""
        return self.held.get(("chunk", *key))

    def hold_chunk(self, key: tuple[str, int], chunk: Stereo) -> None:
        """Which is not to be written to from then on."""
        chunk.setflags(write=False)
        self.held.put(("chunk", *key), chunk)

    def audio_of(self, asset_id: str, rate_hz: int) -> Stereo:
        """By id alone, for devices that use a clip."""
        with self._lock:
            if asset_id not in self._assets:
                raise BadFileError("project", f"audio/{asset_id}.flac", "is missing")
            return self.audio(self._assets[asset_id], rate_hz)

    def audio(self, asset: Asset, rate_hz: int) -> Stereo:
        """Decoded, shape (2, frames), not to be written to."""
        key = ("clip", asset.id, rate_hz)
        with self._lock:
            held: Stereo | None = self.held.get(key)
            if held is None:
                if asset.id not in self._blobs:
                    raise BadFileError("project", f"audio/{asset.id}.flac", "is missing")
                held = decode(self.blob(asset.id), asset, rate_hz)
                held.setflags(write=False)
                self.held.put(key, held)
            return held
