"""Renders a project, or a chain on a file, to audio files: all of them, or none."""

from __future__ import annotations

import re
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path

from zygotone.dsp.types import Stereo
from zygotone.engine.chains import process_chain
from zygotone.engine.graph import Node, compile_session
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import stream_nodes
from zygotone.errors import BadFileError, ParameterError
from zygotone.session.audio_files import AudioWriter, read_audio, resample, write_audio
from zygotone.session.models import Device
from zygotone.session.project_file import Project, parse_json, parse_model

MAX_CHAIN_BYTES = 8 << 20


def safe_file_name(name: str) -> str:
    """A track's name as a file name: it may come from a stranger's project and must not lead elsewhere."""
    cleaned = re.sub(r'[\x00-\x1f/\\:*?"<>|]', "_", name).strip(" .")
    return cleaned or "track"


def render_files(
    project: Project, *, mix: Path | None, stems: Path | None, track: str | None, section: str | None,
    block_frames: int, subtype: str, progress: Callable[[float], None] = lambda share: None,
) -> dict[str, int]:  # fmt: skip
    """Write the mix (or one track) to ``mix`` and every track to the folder ``stems``, in one pass.

    Without a section a mix of instruments ends with the last note's tail. Returns how many samples were over full
    scale, by file, for the files that had any. ``progress`` is told the share that is done; what it raises ends
    the work, and no file is left.
    """
    session, renderer = project.session, Renderer(project.store)
    graph = compile_session(session)
    part = session.song.section(section) if section else None
    span = renderer.span_of(session, part)
    if part is None:
        span = (span[0], span[1] + renderer.tail_frames(session))
    targets: dict[str, tuple[Path, Node]] = {}
    if mix is not None:
        node = graph.strip[session.track_named(track).id] if track else graph.mix
        targets["mix"] = (mix, node)
    if stems is not None:
        for each in session.tracks:
            if track in (None, each.name, each.id):
                targets[f"stem {each.id}"] = (stems / f"{safe_file_name(each.name)}.wav", graph.strip[each.id])
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


def load_chain(path: Path) -> tuple[Device, ...]:
    """Raises BadFileError where the file is not ``{"devices": [...]}`` with known devices and parameters."""
    try:
        if path.stat().st_size > MAX_CHAIN_BYTES:
            raise BadFileError(path, "", "is too large for a chain")
        data = parse_json(path.read_bytes(), path, "")
    except OSError as error:
        raise BadFileError(path, "", (error.strerror or str(error)).lower()) from None
    if not isinstance(data, dict) or not isinstance(data.get("devices"), list):
        raise BadFileError(path, "", 'is not of the form {"devices": [...]}')
    devices = []
    for i, one in enumerate(data["devices"]):
        device = parse_model(Device, one, path, f"devices[{i}]")
        if device.key is not None:
            raise BadFileError(path, f"devices[{i}] key", "names a track, and a file has none; use --key")
        devices.append(device)
    return tuple(devices)


def process_file(
    source: Path, out: Path, chain: Path, *, key: Path | None, block_frames: int, subtype: str | None
) -> None:
    """A file through a chain. The sample format stays what it was unless ``subtype`` says otherwise."""
    devices = load_chain(chain)
    audio = read_audio(source)
    key_audio: Stereo | None = None
    if key is not None:
        heard = read_audio(key)
        key_audio = resample(heard.stereo(), heard.rate_hz, audio.rate_hz)
    result = process_chain(audio.stereo(), devices, audio.rate_hz, key=key_audio, block_frames=block_frames)
    mono = audio.data.shape[0] == 1 and (result[0] == result[1]).all()
    if subtype is None:
        subtype = audio.subtype if audio.is_float or audio.subtype in ("PCM_16", "PCM_24", "PCM_32") else "PCM_24"
    write_audio(out, result[:1] if mono else result, audio.rate_hz, subtype=subtype)
