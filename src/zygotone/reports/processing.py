"""A chain on an audio file, without a project."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygotone.devices import Host
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.chains import chain_blocks
from zygotone.errors import BadFileError
from zygotone.session.audio_files import AudioData, AudioReader, AudioWriter, read_audio, resample, write_audio
from zygotone.session.kinds import Device, file_names, walk
from zygotone.session.parsing import parse_json, parse_model

MAX_CHAIN_BYTES = 8 << 20


@dataclass(frozen=True)
class Chain:
    """Devices from a chain file, and the impulse files beside it that they name, shape (2, frames), at their rates."""

    devices: tuple[Device, ...]
    clips: dict[str, AudioData]


def load_chain(path: Path) -> Chain:
    """Raises BadFileError where the file is not ``{"devices": [...]}`` with known devices and parameters, or names an
    impulse file that is not in its own folder."""
    try:
        if path.stat().st_size > MAX_CHAIN_BYTES:
            raise BadFileError(path, "", "is too large for a chain")
        data = parse_json(path.read_bytes(), path, "")
    except OSError as error:
        raise BadFileError(path, "", (error.strerror or str(error)).lower()) from None
    if not isinstance(data, dict) or not isinstance(data.get("devices"), list):
        raise BadFileError(path, "", 'is not of the form {"devices": [...]}')
    devices = tuple(
        parse_model(Device, {"id": f"d{i}", **one} if isinstance(one, dict) else one, path, f"devices[{i}]")
        for i, one in enumerate(data["devices"])
    )
    clips: dict[str, AudioData] = {}
    for where, device in walk(devices):
        if device.key is not None:
            raise BadFileError(path, f"devices {where} key", "names a track, and a file has none; use --key")
        for name in file_names(device):
            clips[name] = read_audio(path.parent / name)
    return Chain(devices, clips)


def process_file(
    source: Path,
    out: Path,
    chain: Path,
    *,
    key: Path | None,
    block_frames: int,
    subtype: str | None,
    tempo_bpm: float = 120.0,
) -> None:
    """A file through a chain. The sample format stays what it was unless ``subtype`` says otherwise; memory does not
    grow with the length."""
    loaded = load_chain(chain)
    with AudioReader(source) as reader:
        rate = reader.rate_hz
        key_audio: Stereo | None = None
        if key is not None:
            heard = read_audio(key)
            key_audio = resample(heard.stereo(), heard.rate_hz, rate)
        clips = {name: resample(clip.stereo(), clip.rate_hz, rate) for name, clip in loaded.clips.items()}
        if subtype is None:
            kept = ("FLOAT", "DOUBLE", "PCM_16", "PCM_24", "PCM_32")
            subtype = reader.subtype if reader.subtype in kept else "PCM_24"
        host = Host(rate, tempo_bpm, clips.__getitem__)
        pairs = _with_key(reader.blocks(block_frames), key_audio)
        processed = chain_blocks(pairs, loaded.devices, host, keyed=key_audio is not None)
        _write(processed, out, rate, subtype, maybe_mono=reader.channels == 1)


def _with_key(blocks: Iterable[FloatArray], key: Stereo | None) -> Iterator[tuple[Stereo, Stereo | None]]:
    """Stereo blocks, each with as much of the key; silence once that has ended."""
    at = 0
    for block in blocks:
        n = block.shape[1]
        x = block if block.shape[0] == 2 else np.concatenate([block, block])
        part = None
        if key is not None:
            part = np.zeros((2, n))
            there = key[:, at : at + n]
            part[:, : there.shape[1]] = there
        at += n
        yield x, part


def _write(blocks: Iterable[Stereo], out: Path, rate_hz: int, subtype: str, *, maybe_mono: bool) -> None:
    """What went in as mono goes out as mono, if both sides are still alike; so it is looked at as a whole."""
    if maybe_mono:
        whole = np.concatenate(list(blocks), axis=1)
        alike = np.array_equal(whole[0], whole[1])
        write_audio(out, whole[:1] if alike else whole, rate_hz, subtype=subtype)
        return
    with AudioWriter(out, rate_hz, 2, subtype=subtype) as writer:
        for block in blocks:
            if block.shape[1]:
                writer.write(block)
