"""Mix, tracks, buses and sections written to files, all of a pass at once."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

from zygotone.dsp.giving_up import IsUnwanted, give_up_if_unwanted, tell_share
from zygotone.dsp.types import OFFLINE_BLOCK_FRAMES, Stereo
from zygotone.engine.graph import compile_session
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import stream_nodes
from zygotone.errors import BadFileError, ParameterError
from zygotone.reports.rendering import safe_file_name
from zygotone.session.audio_files import AudioWriter
from zygotone.session.models import Section, Session, Strip

# What a format is called, its suffix, and libsndfile's name of its samples.
FORMATS: dict[str, tuple[str, str]] = {
    "WAV, 24 bits": (".wav", "PCM_24"), "WAV, 16 bits with dither": (".wav", "PCM_16"), "WAV, floating point": (".wav", "FLOAT"),
    "FLAC, 24 bits": (".flac", "PCM_24"),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class ExportSpec:
    """``sections``: each section by itself; else ``only`` one, or the whole song with what rings out after it."""

    folder: Path
    mix: bool = True
    tracks: bool = False
    buses: bool = False
    sections: bool = False
    only: str | None = None
    format: str = "WAV, 24 bits"

    def strips(self, session: Session) -> tuple[Strip, ...]:
        return (
            *((session.mix,) if self.mix else ()), *(session.tracks if self.tracks else ()), *(session.buses if self.buses else ()),
        )  # fmt: skip

    def spans(self, session: Session) -> tuple[Section | None, ...]:
        if self.sections:
            return session.song.sections
        return (session.song.section(self.only),) if self.only is not None else (None,)

    def plan(self, session: Session) -> list[tuple[Section | None, list[tuple[Strip, str]]]]:
        """What is written in each pass: strips with the names of their files, no two alike."""
        suffix, _ = FORMATS[self.format]
        taken: list[str] = []
        found = []
        for n, section in enumerate(self.spans(session), 1):
            files = []
            for strip in self.strips(session):
                name = session.song.title or "Mix" if strip.id == session.mix.id else strip.name
                if section is not None:
                    name = f"{n:02d} {section.name} {name}" if self.sections else f"{section.name} {name}"
                taken.append(safe_file_name(name, taken))
                files.append((strip, f"{taken[-1]}{suffix}"))
            found.append((section, files))
        return found

    def file_names(self, session: Session) -> list[str]:
        return [name for _, files in self.plan(session) for _, name in files]


@dataclass(frozen=True, slots=True)
class ExportFiles:
    """A request; answered by how many samples were over full scale, by file, for the files that had any. Stopped, it leaves
    no file of the pass it is in."""

    session: Session
    spec: ExportSpec
    name: str = "Exporting"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> dict[str, int]:
        plan = self.spec.plan(self.session)
        if not any(files for _, files in plan):
            raise ParameterError("there is nothing to export; choose the mix, tracks or buses")
        try:
            self.spec.folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise BadFileError(self.spec.folder, "", (error.strerror or str(error)).lower()) from None
        graph = compile_session(self.session)
        _, subtype = FORMATS[self.spec.format]
        clipped: dict[str, int] = {}
        for n, (section, files) in enumerate(plan):
            span = self.session.section_span(section.id if section is not None else None)
            if section is None:
                span = (span[0], span[1] + renderer.tail_frames(self.session))

            def progress(share: float, n: int = n) -> None:
                tell_share((n + share) / len(plan))
                give_up_if_unwanted()

            with ExitStack() as stack:
                writers = {
                    strip.id: stack.enter_context(
                        AudioWriter(self.spec.folder / name, self.session.rate_hz, 2, subtype=subtype)
                    )
                    for strip, name in files
                }

                def write(strip_id: str, audio: Stereo, writers: dict[str, AudioWriter] = writers) -> None:
                    writers[strip_id].write(audio)

                stream_nodes(
                    renderer, graph, {strip.id: graph.strip[strip.id] for strip, _ in files}, span,
                    block_frames=OFFLINE_BLOCK_FRAMES, progress=progress, sink=write,
                )  # fmt: skip
            clipped |= {str(w.path): w.clipped for w in writers.values() if w.clipped}
        return clipped
