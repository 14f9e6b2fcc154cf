"""Renders a project, or a chain on a file, to audio files: all of them, or none."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygotone.devices import Host
from zygotone.dsp.giving_up import IsUnwanted, give_up_if_unwanted, tell_share
from zygotone.dsp.types import OFFLINE_BLOCK_FRAMES, FloatArray, Stereo
from zygotone.engine.chains import chain_blocks
from zygotone.engine.graph import Node, compile_session
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import stream_nodes
from zygotone.errors import BadFileError, ParameterError
from zygotone.session.audio_files import AudioData, AudioReader, AudioWriter, read_audio, resample, write_audio
from zygotone.session.models import Device, Session, file_names, walk
from zygotone.session.project_file import Project
from zygotone.session.versions import parse_json, parse_model

MAX_CHAIN_BYTES = 8 << 20
_MOST_NAME_BYTES = 180  # file systems take 255, with what is added to it


def safe_file_name(name: str, taken: Iterable[str] = ()) -> str:
    """A track's name as a file name, unlike all that are ``taken``: it may come from a stranger's project and must not lead
    elsewhere."""
    cleaned = re.sub(r'[/\\:*?"<>|]', "_", "".join(c if c.isprintable() else "_" for c in name)).strip(" .-")
    short = cleaned.encode()[:_MOST_NAME_BYTES].decode(errors="ignore").strip() or "track"
    others = {each.casefold() for each in taken}
    names = itertools.chain([short], (f"{short} {n}" for n in itertools.count(2)))
    return next(each for each in names if each.casefold() not in others)


def render_files(
    project: Project, *, mix: Path | None, stems: Path | None, track: str | None, section: str | None,
    block_frames: int = OFFLINE_BLOCK_FRAMES, subtype: str, progress: Callable[[float], None] = lambda share: None,
) -> dict[str, int]:  # fmt: skip
    """Write the mix (or one track) to ``mix`` and every track to the folder ``stems``, in one pass.

    Without a section a mix of instruments ends with the last note's tail. Returns how many samples were over full
    scale, by file, for the files that had any. ``progress`` is told the share that is done; what it raises ends
    the work, and no file is left.
    """
    session, renderer = project.session, Renderer(project.store)
    graph = compile_session(session)
    part = session.song.section(section) if section else None
    span = session.section_span(part.id if part is not None else None)
    if part is None:
        span = (span[0], span[1] + renderer.tail_frames(session))
    targets: dict[str, tuple[Path, Node]] = {}
    if mix is not None:
        node = graph.strip[session.track_named(track).id] if track else graph.mix
        targets["mix"] = (mix, node)
    if stems is not None:
        names: list[str] = []
        for each in session.tracks:
            if track in (None, each.name, each.id):
                names.append(safe_file_name(each.name, names))
                targets[f"stem {each.id}"] = (stems / f"{names[-1]}.wav", graph.strip[each.id])
    if not targets:
        raise ParameterError(f"there is no track {track!r}")
    if stems is not None:
        try:
            stems.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise BadFileError(stems, "", (error.strerror or str(error)).lower()) from None
    with ExitStack() as stack:
        writers = {
            name: stack.enter_context(AudioWriter(path, session.rate_hz, 2, subtype=subtype))
            for name, (path, _) in targets.items()
        }
        stream_nodes(
            renderer, graph, {name: node for name, (_, node) in targets.items()}, span, block_frames=block_frames,
            sink=lambda name, audio: writers[name].write(audio), progress=progress,
        )  # fmt: skip
    return {str(writer.path): writer.clipped for writer in writers.values() if writer.clipped}


@dataclass(frozen=True, slots=True)
class MixFile:
    """A request: that the mix of a version is written to a file. Answered by how many samples of it were over full scale."""

    session: Session
    path: Path
    subtype: str = "PCM_24"
    name: str = "Rendering the mix"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> dict[str, int]:
        def progress(share: float) -> None:
            tell_share(share)
            give_up_if_unwanted()

        project = Project(self.session, store=renderer.store)
        return render_files(
            project, mix=self.path, stems=None, track=None, section=None, subtype=self.subtype, progress=progress
        )


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
