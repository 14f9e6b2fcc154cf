"""The project's own audio: clips at the session's rate, 24 bits, found by the hash of their samples."""

from __future__ import annotations

import hashlib
import io
import threading
from collections import OrderedDict
from collections.abc import Callable, Collection
from functools import partial

import numpy as np
import soundfile

from zygotone.dsp.types import FloatArray, Stereo
from zygotone.errors import BadFileError
from zygotone.session.audio_files import AudioData, resample
from zygotone.session.models import Asset

_FULL = 2.0**23


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
    buffer = io.BytesIO()
    # libsndfile takes 32-bit integers and keeps the upper 24.
    soundfile.write(buffer, samples << 8, rate_hz, format="FLAC", subtype="PCM_24")
    return buffer.getvalue()


def decode(blob: bytes, asset: Asset, rate_hz: int, *, file: object = "project") -> Stereo:
    """Shape (2, frames). Raises BadFileError where the bytes are not what the asset says."""
    place = f"audio/{asset.id}.flac"
    try:
        with soundfile.SoundFile(io.BytesIO(blob)) as f:
            if (f.channels, f.frames, f.samplerate) != (asset.channels, asset.frames, rate_hz):
                raise BadFileError(
                    file,
                    place,
                    f"is {f.frames} frames of {f.channels} channels at {f.samplerate} Hz, not what the session says",
                )
            samples = f.read(dtype="int32", always_2d=True) >> 8
    except soundfile.LibsndfileError:
        raise BadFileError(file, place, "cannot be decoded") from None
    if asset_hash(samples, rate_hz) != asset.id:
        raise BadFileError(file, place, "does not hold the audio its name promises")
    data = samples.T * (asset.scale / _FULL)
    return np.ascontiguousarray(np.broadcast_to(data, (2, data.shape[1])), dtype=np.float64)


def _same(blob: bytes) -> bytes:
    return blob


class AudioStore:
    """Encoded clips by asset id, decoded when first needed; the least used decoded ones are let go.

    Used from several threads.
    """

    def __init__(self, *, decoded_bytes: int = 1 << 30) -> None:
        self._blobs: dict[str, Callable[[], bytes]] = {}
        self._decoded: OrderedDict[str, Stereo] = OrderedDict()
        self._limit = decoded_bytes
        self._lock = threading.RLock()

    def __contains__(self, asset_id: str) -> bool:
        return asset_id in self._blobs

    def add(self, audio: AudioData, name: str, rate_hz: int) -> Asset:
        """Take a clip in, resampled to the session's rate."""
        samples, scale = _quantize(resample(audio.data, audio.rate_hz, rate_hz))
        asset = Asset(
            id=asset_hash(samples, rate_hz), name=name, channels=samples.shape[1], frames=len(samples), scale=scale
        )
        blob = encode(samples, rate_hz)
        self._blobs[asset.id] = partial(_same, blob)
        return asset

    def add_blob(self, asset_id: str, read: Callable[[], bytes]) -> None:
        self._blobs[asset_id] = read

    def blob(self, asset_id: str) -> bytes:
        return self._blobs[asset_id]()

    def hold_others(self, asset_ids: Collection[str]) -> None:
        """Read every blob that is not among ``asset_ids`` into memory, since its file is about to lose it."""
        for asset_id in set(self._blobs) - set(asset_ids):
            blob = self._blobs[asset_id]()
            self._blobs[asset_id] = partial(_same, blob)

    def moved(self, asset_ids: Collection[str], reader: Callable[[str], Callable[[], bytes]]) -> None:
        """These clips are now in another file too; read them from there, unless they are held in memory anyway."""
        for asset_id in asset_ids:
            if not isinstance(self._blobs[asset_id], partial):
                self._blobs[asset_id] = reader(asset_id)

    def audio_of(self, asset_id: str, rate_hz: int) -> Stereo:
        """By id alone, for devices that use a clip; it was checked when it came in or was first decoded."""
        with self._lock:
            if asset_id in self._decoded:
                return self._decoded[asset_id]
            if asset_id not in self._blobs:
                raise BadFileError("project", f"audio/{asset_id}.flac", "is missing")
            with soundfile.SoundFile(io.BytesIO(self._blobs[asset_id]())) as f:
                data = f.read(dtype="float64", always_2d=True).T
            return np.ascontiguousarray(np.broadcast_to(data, (2, data.shape[1])))

    def audio(self, asset: Asset, rate_hz: int) -> Stereo:
        """Decoded, shape (2, frames), not to be written to."""
        with self._lock:
            held = self._decoded.get(asset.id)
            if held is None:
                if asset.id not in self._blobs:
                    raise BadFileError("project", f"audio/{asset.id}.flac", "is missing")
                held = decode(self._blobs[asset.id](), asset, rate_hz)
                held.setflags(write=False)
                self._decoded[asset.id] = held
                while len(self._decoded) > 1 and sum(a.nbytes for a in self._decoded.values()) > self._limit:
                    self._decoded.popitem(last=False)
            self._decoded.move_to_end(asset.id)
            return held
