"""Audio files in and out. Whatever a file claims about itself is checked against what it holds."""

from __future__ import annotations

import errno
import os
import shutil
import struct
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
import soxr

from zygotone.dsp.dynamics import is_finite
from zygotone.dsp.interleaving import join_channels, part_channels
from zygotone.dsp.types import FloatArray
from zygotone.errors import BadFileError
from zygotone.plain_files import why_not

MAX_SECONDS = 4 * 3600
MAX_RATE_HZ = 768_000
# Frames that are read and written by one call of the library, which costs as much as a thousand of them; an export has many writers.
_READ_AT_ONCE, _WRITTEN_AT_ONCE = 1 << 16, 1 << 14
AUDIO_SUFFIXES = (".wav", ".flac", ".ogg", ".aif", ".aiff", ".wave", ".bwf", ".oga")


@dataclass(frozen=True, slots=True)
class AudioData:
    """Decoded audio: ``data`` (channels, frames) float64, full scale ±1, at ``rate_hz``."""

    data: FloatArray
    rate_hz: int
    subtype: str  # libsndfile's name, such as PCM_16 or FLOAT
    format: str  # such as WAV

    def stereo(self) -> FloatArray:
        """Shape (2, frames); mono is on both sides."""
        return np.ascontiguousarray(np.broadcast_to(self.data, (2, self.data.shape[1])))


def _check_riff_size(path: Path) -> None:
    """A WAV file says how long its data is; one that was cut short still says it."""
    with path.open("rb") as f:
        head = f.read(12)
        if head[:4] != b"RIFF" or head[8:12] != b"WAVE":
            return
        size = os.fstat(f.fileno()).st_size
        at = 12
        while at + 8 <= size:
            f.seek(at)
            name, length = struct.unpack("<4sI", f.read(8))
            if name == b"data":
                # 0 and all ones are what a program writes that did not know the length beforehand.
                if length not in (0, 0xFFFFFFFF) and at + 8 + length > size:
                    raise BadFileError(
                        path, "data", f"promises {length} bytes but {size - at - 8} are there; it was cut short"
                    )
                return
            at += 8 + length + (length & 1)


class AudioReader:
    """An audio file, read in blocks and checked as it goes; see ``read_audio`` for what is refused and when."""

    def __init__(self, path: str | Path) -> None:
        self.path = path = Path(path)
        try:
            if not path.is_file():
                raise BadFileError(path, "", "there is no such file" if not path.exists() else "this is not a file")
            if path.stat().st_size == 0:
                raise BadFileError(path, "", "the file is empty")
            _check_riff_size(path)
            self._file = soundfile.SoundFile(path)
        except soundfile.LibsndfileError as error:
            raise BadFileError(path, "", f"cannot be read as audio ({_plain(error)})") from None
        except OSError as error:
            raise BadFileError(path, "", error.strerror or str(error)) from None
        f = self._file
        self.channels, self.rate_hz, self.subtype, self.format = f.channels, f.samplerate, f.subtype, f.format
        if self.channels not in (1, 2):
            f.close()
            raise BadFileError(
                path, "channels", f"has {self.channels} channels; mono and stereo can be used, so export stereo stems"
            )
        if not 1000 <= self.rate_hz <= MAX_RATE_HZ:
            f.close()
            raise BadFileError(path, "sample rate", f"{self.rate_hz} Hz is outside 1 to {MAX_RATE_HZ // 1000} kHz")

    def __enter__(self) -> AudioReader:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def blocks(self, frames: int) -> Iterator[FloatArray]:
        """Shape (channels, up to ``frames``), float64, contiguous, until the file ends.

        The header's length is a claim: it does not decide how much memory is taken, and it must have been true.
        """
        promised, total = self._file.frames, 0
        # Every value that is stored in single precision is one of double precision too; the library converts slowly.
        dtype = "float32" if self.subtype == "FLOAT" else "float64"
        at_once = frames * max(1, _READ_AT_ONCE // frames)
        room = np.empty((at_once, self.channels), dtype=dtype)
        try:
            while True:
                piece = self._file.read(out=room)
                if not len(piece):
                    break
                for at in range(0, len(piece), frames):
                    part = piece[at : at + frames]
                    block = part_channels(part)
                    if not is_finite(block):
                        self._refuse_not_finite(part, total)
                    total += len(part)
                    if total > MAX_SECONDS * self.rate_hz:
                        raise BadFileError(self.path, "length", f"is longer than {MAX_SECONDS // 3600} hours")
                    yield block
        except soundfile.LibsndfileError as error:
            raise BadFileError(self.path, "", f"cannot be read as audio ({_plain(error)})") from None
        if total == 0:
            raise BadFileError(self.path, "data", "holds no audio")
        if 0 < promised < 1 << 60 and total < promised:
            raise BadFileError(self.path, "data", f"promises {promised} frames but {total} are there; it was cut short")

    def _refuse_not_finite(self, piece: FloatArray, before: int) -> None:
        bad = ~np.isfinite(piece)
        if bad.any():
            first = before + int(np.argmax(bad.any(axis=1)))
            raise BadFileError(
                self.path,
                f"at {first / self.rate_hz:.3f} s",
                f"{int(bad.sum())} of {piece.size} samples are not numbers",
            )


def read_audio(path: str | Path) -> AudioData:
    """Decode a whole file.

    Raises
    ------
    BadFileError : missing, not audio, cut short, empty, more than two channels, too long, or not finite.
    """
    with AudioReader(path) as reader:
        data = np.concatenate(list(reader.blocks(1 << 20)), axis=1)
        return AudioData(data, reader.rate_hz, reader.subtype, reader.format)


def audio_rate_hz(path: str | Path) -> int:
    """Sample rate that a file says it has; everything else about it is checked when it is read.

    Raises
    ------
    BadFileError : there is no such file, or it is no audio.
    """
    path = Path(path)
    if not path.is_file() or path.stat().st_size == 0:
        read_audio(path)  # says what is wrong
    try:
        return int(soundfile.info(str(path)).samplerate)
    except soundfile.LibsndfileError as error:
        raise BadFileError(path, "", f"cannot be read as audio ({_plain(error)})") from None


def _plain(error: Exception) -> str:
    return str(error).split(": ")[-1].strip().rstrip(".").lower()


def resample(data: FloatArray, from_hz: int, to_hz: int) -> FloatArray:
    """(channels, frames) at another rate (soxr, very high quality); the start stays where it was."""
    if from_hz == to_hz:
        return data
    out = soxr.resample(data.T, from_hz, to_hz, quality="VHQ")
    if len(out) == 0:  # a few frames at a high rate can be less than one at a low rate
        out = data.T[:1]
    return np.ascontiguousarray(out.T)


PCM_BITS = {"PCM_S8": 8, "PCM_U8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32}


def dither(data: FloatArray, bits: int, *, seed: int = 1) -> FloatArray:
    """Adds triangular noise of two steps' width, so that rounding leaves noise and no distortion.

    Lipshitz, Wannamaker and Vanderkooy, "Quantization and dither", 1992. Silence stays silent: a whole
    file of zeros is returned as it is.
    """
    if not data.any():
        return data
    rng = np.random.default_rng(seed)
    return data + (rng.random(data.shape) - rng.random(data.shape)) / 2.0 ** (bits - 1)


_SET_ADD_PEAK_CHUNK = 0x1050  # SFC_SET_ADD_PEAK_CHUNK of sndfile.h, for which the Python library has no name


def _leave_out_peaks(file: soundfile.SoundFile) -> None:
    """Of floating point libsndfile would look for the peaks, which takes longer than to write it, and note them with the time of
    day: two renders of one song would not be one and the same file."""
    soundfile._snd.sf_command(file._file, _SET_ADD_PEAK_CHUNK, soundfile._ffi.NULL, 0)


class AudioWriter:
    """Writes (channels, frames) block by block to WAV or FLAC, by the file name's ending, wholly or not at all.

    Reduction to 16 bits or fewer is dithered. PCM is held within full scale (``clipped`` counts the samples that
    were over); floating point is not. Leaving the ``with`` block by an error leaves no file.

    Raises
    ------
    BadFileError : the format cannot hold this subtype, or the place cannot be written.
    """

    def __init__(self, path: str | Path, rate_hz: int, channels: int, *, subtype: str = "PCM_24") -> None:
        self.path = Path(path)
        format_ = {".wav": "WAV", ".flac": "FLAC"}.get(self.path.suffix.lower())
        if format_ is None:
            raise BadFileError(path, "name", "ends neither in .wav nor in .flac")
        if format_ == "FLAC" and subtype in ("FLOAT", "DOUBLE"):
            subtype = "PCM_24"
        if not soundfile.check_format(format_, subtype):
            raise BadFileError(path, "subtype", f"{format_} cannot hold {subtype}")
        self._bits = PCM_BITS.get(subtype)
        # What is given is put together here.
        self._room = np.empty((_WRITTEN_AT_ONCE, channels), dtype=np.float32 if subtype == "FLOAT" else np.float64)
        self._waiting = 0  # frames of it that are not written yet
        self._blocks = 0
        self.clipped = 0
        self._temporary = self.path.with_name(f".{self.path.name}.{os.getpid()}.part")
        try:
            if self.path.is_symlink():
                raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))
            # Libsndfile only says that something failed; opened here, the system says what.
            with open(self._temporary, "wb"):
                pass
            self._file = soundfile.SoundFile(self._temporary, "w", rate_hz, channels, subtype, format=format_)
            _leave_out_peaks(self._file)
        except OSError as error:
            raise BadFileError(path, "", f"cannot be written: {why_not(error)}") from None
        except soundfile.LibsndfileError as error:
            self._temporary.unlink(missing_ok=True)
            raise BadFileError(path, "", f"cannot be written ({_plain(error)})") from None

    def write(self, data: FloatArray) -> None:
        """The next frames, (channels, n). Raises BadFileError where they cannot be written, and says why."""
        if self._bits is not None:
            if self._bits <= 16:
                data = dither(data, self._bits, seed=self._blocks)
            top = 1.0 - 2.0 ** (1 - self._bits)
            self.clipped += int(np.count_nonzero(np.abs(data) > 1.0))
            data = np.clip(data, -1.0, top)
        self._blocks += 1
        at = 0
        while at < data.shape[1]:
            n = min(data.shape[1] - at, len(self._room) - self._waiting)
            join_channels(data[:, at : at + n], self._room[self._waiting : self._waiting + n])
            at, self._waiting = at + n, self._waiting + n
            if self._waiting == len(self._room):
                self._empty_room()

    def _empty_room(self) -> None:
        frames, self._waiting = self._room[: self._waiting], 0
        try:
            self._file.write(frames)
        except (
            OSError,
            soundfile.LibsndfileError,
            AssertionError,
        ):  # an assertion that as much was written as was given
            raise self._refused(frames.nbytes) from None

    def _refused(self, least_bytes: int) -> BadFileError:
        """Libsndfile does not say why it could not write."""
        free = 0
        with suppress(OSError):
            free = shutil.disk_usage(self.path.parent).free
        full = OSError(errno.ENOSPC if free < max(least_bytes, 1 << 16) else errno.EIO, "")
        return BadFileError(self.path, "", f"cannot be written: {why_not(full)}")

    def __enter__(self) -> AudioWriter:
        return self

    def __exit__(self, kind: object, error: object, trace: object) -> None:
        try:
            try:
                if kind is None:
                    self._empty_room()
            finally:
                self._file.close()
            if kind is not None:
                self._temporary.unlink(missing_ok=True)
                return
            with open(self._temporary, "rb") as f:
                os.fsync(f.fileno())
            os.replace(self._temporary, self.path)
        except BadFileError:  # the last of it could not be written
            self._temporary.unlink(missing_ok=True)
            raise
        except soundfile.LibsndfileError:
            self._temporary.unlink(missing_ok=True)
            raise self._refused(1) from None
        except OSError as why:
            with suppress(OSError):
                self._temporary.unlink(missing_ok=True)
            raise BadFileError(self.path, "", f"cannot be written: {why_not(why)}") from None


def write_audio(path: str | Path, data: FloatArray, rate_hz: int, *, subtype: str = "PCM_24") -> None:
    """Write (channels, frames) at once; see ``AudioWriter``."""
    with AudioWriter(path, rate_hz, data.shape[0], subtype=subtype) as writer:
        writer.write(data)
