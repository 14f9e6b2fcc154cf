"""A sound played by notes outside any song: for the command line, the library and the keyboard."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.giving_up import IsUnwanted
from zygotone.dsp.types import Stereo
from zygotone.engine.chains import process_chain
from zygotone.engine.graph import Graph
from zygotone.engine.nodes import SourceNode, nodes_below
from zygotone.engine.renderer import Renderer
from zygotone.session.instruments import InstrumentSource, Note
from zygotone.session.models import Session
from zygotone.sources.instrument import add_layers, as_stereo, release_frames, render_voices
from zygotone.sources.voices import SongNote, allocate


def play_notes(
    source: InstrumentSource, notes: Sequence[tuple[float, float, Note]], *, rate_hz: int, bpm: float = 120.0,
    a4_hz: float = 440.0, clip: Callable[[str], Stereo] | None = None, seconds: float = 0.0, max_tail_s: float = 30.0,
) -> Stereo:  # fmt: skip
    """Notes as (start in s, length in s, note), through all sounding layers and their chains; shape (2, frames), with the
    tail of the last note and ``seconds`` long at least."""
    placed = [
        SongNote(round(start * rate_hz), round(start * rate_hz) + max(1, round(length * rate_hz)), note)
        for start, length, note in notes
    ]
    release = max((release_frames(layer, rate_hz) for layer in source.layers), default=0)
    voices = allocate(placed, source.voices, rate_hz=rate_hz, release=release)
    read = clip if clip is not None else _no_clip
    parts = []
    for layer in source.sounding:
        audio = render_voices(
            layer, voices, round(seconds * rate_hz), shared=source.lfos, rate_hz=rate_hz, bpm=bpm, a4_hz=a4_hz,
            automation={}, clip=read,
        )  # fmt: skip
        if layer.chain:
            audio = process_chain(as_stereo(audio), layer.chain, rate_hz, bpm=bpm, clip=read, max_tail_s=max_tail_s)
        parts.append((layer, audio))
    return add_layers(parts)


def play_one(
    source: InstrumentSource, pitch: int, *, rate_hz: int, hold_s: float = 1.0, velocity: float = 0.8,
    clip: Callable[[str], Stereo] | None = None, max_tail_s: float = 8.0,
) -> Stereo:  # fmt: skip
    """One note, for measuring and listening."""
    note = Note(start_beat=0.0, length_beats=1.0, pitch=pitch, velocity=velocity)
    return play_notes(source, [(0.0, hold_s, note)], rate_hz=rate_hz, clip=clip, max_tail_s=max_tail_s)


def hold_note(
    source: InstrumentSource, pitch: int, velocity: float, gate_s: float, *, wheel: float = 0.0, rate_hz: int, bpm: float, a4_hz: float,
    clip: Callable[[str], Stereo],
) -> Stereo:  # fmt: skip
    """A note of the keyboard, held for ``gate_s``. Up to the shorter gate two of them are the same, frame for frame."""
    note = Note(start_beat=0.0, length_beats=1.0, pitch=pitch, velocity=velocity, wheel=wheel)
    return play_notes(source, [(0.0, gate_s, note)], rate_hz=rate_hz, bpm=bpm, a4_hz=a4_hz, clip=clip, max_tail_s=4.0)


@dataclass(frozen=True, slots=True)
class HeldKey:
    """A question: the note of a key, as it sounds after the track's level, in single precision, as long ones take room."""

    session: Session
    track: str
    pitch: int
    velocity: float
    gate_s: float
    wheel: float

    @property
    def name(self) -> str:
        return f"note {self.pitch}"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> np.ndarray:
        session, track = self.session, self.session.track(self.track)
        if not isinstance(track.source, InstrumentSource):
            return np.zeros((2, 1), dtype=np.float32)
        note = hold_note(
            track.source, self.pitch, self.velocity, self.gate_s, wheel=self.wheel, rate_hz=session.rate_hz,
            bpm=session.song.tempo_bpm, a4_hz=session.song.a4_hz, clip=renderer.clip_reader(session.rate_hz),
        )  # fmt: skip
        return np.asarray(10.0 ** (track.level_db / 20.0) * note, dtype=np.float32)


@dataclass(frozen=True, slots=True)
class MakeSources:
    """A request: that the layers of a version are rendered, and lie where other processes read them. ``keys`` of source nodes."""

    graph: Graph
    keys: frozenset[str]
    name: str = "sources"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> None:
        nodes = [n for n in nodes_below([self.graph.mix]) if isinstance(n, SourceNode) and n.key in self.keys]
        renderer.make_sources(nodes, self.graph.session)


def _no_clip(name: str) -> Stereo:
    return np.zeros((2, 1))
