"""Renders a project to audio files: all of them, or none."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterable
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

from zygotone.dsp.giving_up import IsUnwanted, give_up_if_unwanted, tell_share
from zygotone.dsp.types import OFFLINE_BLOCK_FRAMES
from zygotone.engine.graph import compile_session
from zygotone.engine.nodes import Node
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import stream_nodes
from zygotone.errors import BadFileError, ParameterError
from zygotone.session.audio_files import AudioWriter
from zygotone.session.models import Session
from zygotone.session.project_file import Project

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
