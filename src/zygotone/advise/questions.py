"""What the interface asks about versions of a session: frozen requests that are answered in the background.

A question holds values only, and its answer is one; so it can be answered by another thread or another process
(``engine.measurer``).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from zygotone.advise.advisor import find_first, find_in, with_fixes
from zygotone.advise.findings import RULES, Finding
from zygotone.advise.hearing import Hearing
from zygotone.advise.sound_views import ClipShape, LayerMapView, SourceView, clip_shape, layer_map, source_view
from zygotone.advise.views import (
    ClickAnswer,
    Effect,
    PairView,
    Step,
    chain_steps,
    click_answer,
    device_effect,
    heard_at,
    pair_view,
)
from zygotone.dsp.giving_up import IsUnwanted
from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.types import Stereo
from zygotone.engine.graph import Graph
from zygotone.engine.renderer import Renderer
from zygotone.measure.dynamics import peak_and_body_db
from zygotone.measure.loudness import integrated_lufs, true_peak
from zygotone.session.models import Device, InstrumentSource, Layer, Section, Session


@dataclass(frozen=True, slots=True)
class MixNumbers:
    """Loudness and true peak of the loop."""

    lufs: float
    dbtp: float


@dataclass(frozen=True, slots=True)
class Match:
    """Both versions measured, and the gains that make them equally loud; the louder one is turned down."""

    a: MixNumbers
    b: MixNumbers | None
    a_gain_db: float = 0.0
    b_gain_db: float = 0.0


@dataclass(frozen=True, slots=True)
class LevelMatch:
    """``heard``: A and B as they are played, where that is not the mix but one track alone."""

    a: Graph
    b: Graph | None
    span: tuple[int, int]
    heard: tuple[Graph, Graph] | None = None
    name: str = "level match"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> Match:
        def rendered(graph: Graph) -> Stereo:
            return renderer.take(graph, graph.mix, self.span, cancelled=unwanted).audio

        def numbers(graph: Graph) -> MixNumbers:
            audio, rate = rendered(graph), graph.session.rate_hz
            return MixNumbers(integrated_lufs(audio, rate), float(gain_to_db(true_peak(audio, rate))))

        a = numbers(self.a)
        if self.b is None:
            return Match(a, None)
        b = numbers(self.b)
        before, after = a.lufs, b.lufs
        if self.heard is not None:
            before, after = (integrated_lufs(rendered(g), g.session.rate_hz) for g in self.heard)
        gap = after - before if math.isfinite(after) and math.isfinite(before) else 0.0
        # The louder one comes down: nothing ever gets louder than its own version is.
        return Match(a, b, a_gain_db=min(0.0, gap), b_gain_db=min(0.0, -gap))


@dataclass(frozen=True, slots=True)
class NullOf:
    """What is left of B less A over a span, both at the loudness at which they are compared: all that differs, to be heard."""

    a: Graph
    b: Graph
    span: tuple[int, int]
    name: str = "null"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> Stereo:
        match = LevelMatch(self.a, self.b, self.span).answer(renderer, unwanted)
        one, other = (renderer.take(g, g.mix, self.span, cancelled=unwanted).audio for g in (self.a, self.b))
        b_gain, a_gain = (10.0 ** (db / 20.0) for db in (match.b_gain_db, match.a_gain_db))
        return np.asarray(other * b_gain - one * a_gain)


@dataclass(frozen=True, slots=True)
class FindingsIn:
    """All of a section, or with ``first`` those that are soon known."""

    graph: Graph
    section: Section
    first: bool = False

    @property
    def name(self) -> str:
        return "first findings" if self.first else "findings"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> tuple[Finding, ...]:
        find = find_first if self.first else find_in
        return tuple(find(Hearing.of(self.graph, self.section, renderer, unwanted)))


@dataclass(frozen=True, slots=True)
class TrackLevels:
    """Loudness of each strip, by id, in LUFS."""

    graph: Graph
    section: Section
    name: str = "levels"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> dict[str, float]:
        hearing = Hearing.of(self.graph, self.section, renderer, unwanted)
        return {s.id: heard_at(hearing, self.graph.strip[s.id]).lufs for s in self.graph.session.strips()}


@dataclass(frozen=True, slots=True)
class TrialNumbers:
    """The numbers that a trial is judged by, of A and of B."""

    a: Graph
    b: Graph
    rule: str
    tracks: tuple[str, ...]
    layers: tuple[str, ...]
    section: Section
    name: str = "trial numbers"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> tuple[dict[str, float], dict[str, float]]:
        numbers = RULES[self.rule].numbers
        a, b = (Hearing.of(graph, self.section, renderer, unwanted) for graph in (self.a, self.b))
        return numbers(a, self.tracks, self.layers), numbers(b, self.tracks, self.layers)


@dataclass(frozen=True, slots=True)
class FixesOf:
    """A finding with its fixes, worked out on a version."""

    session: Session
    finding: Finding

    @property
    def name(self) -> str:
        return f"fixes {self.finding.id}"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> Finding:
        return with_fixes(self.session, renderer, replace(self.finding, fixes=()), cancelled=unwanted)


@dataclass(frozen=True, slots=True)
class PairOf:
    """A kick and a bass in A and B; None where a version has not both."""

    a: Graph
    b: Graph | None
    section: Section
    tracks: tuple[str, str]
    name: str = "pair"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> tuple[PairView | None, PairView | None]:
        known = {t.id for t in self.a.session.tracks}
        a = b = None
        if known.issuperset(self.tracks):
            a = pair_view(Hearing.of(self.a, self.section, renderer, unwanted), *self.tracks)
        if self.b is not None:
            hearing = Hearing.of(self.b, self.section, renderer, unwanted)
            b = pair_view(hearing, *self.tracks, bar=a.bar if a else None)
        return a, b


@dataclass(frozen=True, slots=True)
class ChainMeasured:
    """What each device of a chain did, by path, and one of them in full, in the version that is edited and in A."""

    strip: str
    path: str | None
    steps: dict[str, Step]
    effect: Effect | None
    kept_effect: Effect | None


@dataclass(frozen=True, slots=True)
class ChainOf:
    """``path``: the device that is shown in full; ``kept``: A, where it has that device and is not what is edited."""

    graph: Graph
    kept: Graph | None
    section: Section
    strip: str
    path: str | None
    name: str = "chain"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> ChainMeasured:
        hearing = Hearing.of(self.graph, self.section, renderer, unwanted)
        effect = old = None
        if self.path is not None:
            effect = device_effect(hearing, self.strip, self.path)
            if self.kept is not None:
                old = device_effect(Hearing.of(self.kept, self.section, renderer, unwanted), self.strip, self.path)
        return ChainMeasured(self.strip, self.path, chain_steps(hearing, self.strip), effect, old)


@dataclass(frozen=True, slots=True)
class LayerDeviceOf:
    """What one device of a layer's chain does."""

    graph: Graph
    section: Section
    track: str
    layer: str
    path: str
    name: str = "device of a layer"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> Effect | None:
        """None of a layer that is not heard."""
        source = self.graph.session.track(self.track).source
        if not isinstance(source, InstrumentSource) or self.layer not in {each.id for each in source.sounding}:
            return None
        hearing = Hearing.of(self.graph, self.section, renderer, unwanted)
        return device_effect(hearing, self.track, self.path, layer=self.layer)


@dataclass(frozen=True, slots=True)
class LayerMapOf:
    graph: Graph
    section: Section
    track: str
    name: str = "layer map"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> LayerMapView | None:
        return layer_map(Hearing.of(self.graph, self.section, renderer, unwanted), self.track)


@dataclass(frozen=True, slots=True)
class ClipShapeOf:
    graph: Graph
    section: Section
    track: str
    name: str = "clip shape"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> ClipShape | None:
        return clip_shape(self.graph, self.section, self.track, renderer)


@dataclass(frozen=True, slots=True)
class ClicksThrough:
    """What a click through each of some devices gives, each by itself."""

    session: Session
    devices: tuple[Device, ...]
    name: str = "answer"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> tuple[ClickAnswer, ...]:
        return tuple(click_answer(device, renderer.host(self.session)) for device in self.devices)


@dataclass(frozen=True, slots=True)
class PeakAndBody:
    """Level of the peaks and of the body of what leaves a track's chain, in dB."""

    graph: Graph
    section: Section
    strip: str
    name: str = "two in series"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> tuple[float, float]:
        audio = Hearing.of(self.graph, self.section, renderer, unwanted).chain_out(self.strip)
        return peak_and_body_db(audio, self.graph.session.rate_hz)


@dataclass(frozen=True, slots=True)
class SourceViewOf:
    """A layer's source by itself, at one pitch."""

    session: Session
    layer: Layer
    pitch_hz: float
    name: str = "source view"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> SourceView:
        rate_hz = self.session.rate_hz
        return source_view(self.layer, pitch_hz=self.pitch_hz, rate_hz=rate_hz, clip=renderer.clip_reader(rate_hz))
