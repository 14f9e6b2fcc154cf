"""What a finding and a fix are, and the one door to all rules."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.graph import Graph, SourceNode, compile_session, layer_node
from zygotone.engine.renderer import Renderer
from zygotone.session.bench import Reading, Trial
from zygotone.session.models import Section, Session


@dataclass(frozen=True, slots=True)
class Fix:
    """One way out, worked out on the real audio. One that does not apply says why and has no session."""

    label: str
    detail: str = ""  # its settings in a few words
    school: str | None = None
    applies: bool = True
    why_not: str | None = None
    gain: dict[str, float] = field(default_factory=dict)  # changes, after minus before
    cost: dict[str, float] = field(default_factory=dict)
    readings: tuple[Reading, ...] = ()
    session: Session | None = None

    def to_json(self) -> dict[str, Any]:
        return {
            "label": self.label,
            "detail": self.detail,
            "school": self.school,
            "applies": self.applies,
            "why_not": self.why_not,
            "gain": {k: round(v, 3) for k, v in self.gain.items()},
            "cost": {k: round(v, 3) for k, v in self.cost.items()},
        }


@dataclass(frozen=True, slots=True)
class Finding:
    """A measured problem with its evidence. ``fixes`` is empty until they have been worked out."""

    id: str
    rule: str
    severity: float  # 0 to 1
    tracks: tuple[str, ...]  # ids
    section: Section
    stage: str
    sentence: str
    advice: str
    evidence: dict[str, float]
    fixes: tuple[Fix, ...] = ()
    layers: tuple[str, ...] = ()  # ids, where it is about layers of the first track

    @property
    def strength(self) -> str:
        return "strong" if self.severity >= 0.66 else "fair" if self.severity >= 0.33 else "slight"

    def to_json(self, session: Session) -> dict[str, Any]:
        return {
            "id": self.id,
            "rule": self.rule,
            "severity": round(self.severity, 3),
            "tracks": [session.strip(t).name for t in self.tracks],
            "section": self.section.name,
            "sentence": self.sentence,
            "evidence": {k: round(v, 3) for k, v in self.evidence.items()},
            "fixes": [fix.to_json() for fix in self.fixes],
        }

    def trial(self, number: int) -> Trial:
        """The trial that fix ``number`` (from 1) opens."""
        fix = self.fixes[number - 1]
        assert fix.session is not None
        return Trial(
            session=fix.session, title=fix.label if not fix.detail else f"{fix.label}: {fix.detail}", finding=self.id,
            fix=number, rule=self.rule, tracks=self.tracks, layers=self.layers, section=self.section.id, readings=fix.readings,
        )  # fmt: skip


@dataclass
class Context:
    """A session heard over one section: renders what the rules ask for, once."""

    session: Session
    section: Section
    renderer: Renderer
    cancelled: Callable[[], bool] = lambda: False
    excerpt: tuple[int, int] | None = None  # frames of the song, where only a part of the section is to be heard

    @functools.cached_property
    def graph(self) -> Graph:
        return compile_session(self.session)

    @functools.cached_property
    def span(self) -> tuple[int, int]:
        return self.excerpt or self.renderer.span_of(self.session, self.section)

    @property
    def rate_hz(self) -> int:
        return self.session.rate_hz

    def stem(self, strip_id: str) -> Stereo:
        """After chain, level and pan."""
        return self.renderer.take(self.graph, self.graph.strip[strip_id], self.span, cancelled=self.cancelled).audio

    def chain_out(self, strip_id: str) -> Stereo:
        """After the chain, before level and pan: what a key input hears."""
        return self.renderer.take(self.graph, self.graph.chain[strip_id], self.span, cancelled=self.cancelled).audio

    def layer(self, track_id: str, layer_id: str) -> Stereo:
        """One layer of an instrument after its own chain, before the track's."""
        node = layer_node(self.session, track_id, layer_id)
        if isinstance(node, SourceNode):  # which is there already, for the whole song
            start, end = self.span
            return self.renderer.source_reader(self.session)(node)(start, end - start)
        return self.renderer.take(self.graph, node, self.span, cancelled=self.cancelled).audio

    def with_session(self, session: Session) -> Context:
        return Context(session, self.section, self.renderer, self.cancelled, self.excerpt)


FindProblems = Callable[[Context], list[Finding]]
WorkOutFixes = Callable[[Context, Finding], tuple[Fix, ...]]
Numbers = Callable[[Context, tuple[str, ...], tuple[str, ...]], dict[str, float]]  # for tracks, and layers of the first


@dataclass(frozen=True, slots=True)
class Rule:
    """``find`` looks for problems in a context, ``fixes`` works out the ways out of one, and ``numbers`` reads the
    measures that those change."""

    name: str
    find: FindProblems
    fixes: WorkOutFixes
    numbers: Numbers


RULES: dict[str, Rule] = {}


def rule(name: str, find: FindProblems, fixes: WorkOutFixes, numbers: Numbers) -> None:
    RULES[name] = Rule(name, find, fixes, numbers)


_EVIDENCE = {
    "kick_hz": ("Kick fundamental", "Hz"),
    "bass_hz": ("Bass fundamental", "Hz"),
    "onset_gap_ms": ("Bass after kick", "ms"),
    "kick_clear_db": ("Kick clear of bass", "dB"),
    "kick_clear_share": ("Share of hits that are clear, 0 to 1", ""),
    "kick_clear_worst_db": ("Worst tenth of them under", "dB"),
    "click_clear_db": ("Click over the bass above 1.5 kHz", "dB"),
    "side_share_low": ("Side share, 0 to 1", ""),
    "below_hz": ("below", "Hz"),
    "fold_down_loss_lu": ("Lost in mono", "LU"),
    "sample_peak_dbfs": ("Peak", "dBFS"),
    "flat_tops": ("Cut-off tops", ""),
    "cancel_db": ("Sum against both alone", "dB"),
    "at_hz": ("at", "Hz"),
    "later_ms": ("Best offset", "ms"),
    "hidden_share": ("Hidden by the rest, 0 to 1", ""),
    "added_db": ("Adds at most", "dB"),
    "over_lead_lu": ("Louder than the lead layer", "LU"),
    "attack_ms": ("Attack", "ms"),
    "share": ("Share where it belongs, 0 to 1", ""),
    "low_gap_db": ("Second sub under the first", "dB"),
    "mud_db": ("200 to 500 Hz over its neighbours", "dB"),
    "fundamental_hz": ("Fundamental", "Hz"),
    "wanted_hz": ("Nearest consonant", "Hz"),
    "cents_off": ("Away from it", "cents"),
}


def evidence_readings(finding: Finding) -> tuple[Reading, ...]:
    """The evidence as the log shows it: with words and units."""
    readings = []
    for name, value in finding.evidence.items():
        label, unit = _EVIDENCE.get(name, (name, ""))
        readings.append(Reading(name=name, label=label, unit=unit, before=value))
    return tuple(readings)


def severity_of(value: float, slight: float, strong: float) -> float:
    """0 at ``slight`` or before it, 1 at ``strong`` or past it, a straight line between."""
    if not math.isfinite(value):
        return 0.0
    return min(1.0, max(0.0, (value - slight) / (strong - slight)))


def sounds(audio: FloatArray, *, floor: float = 1e-4) -> bool:
    return bool(audio.size) and float(abs(audio).max()) > floor
