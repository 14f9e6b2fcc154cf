"""What the Fit stage shows of a section: the map, one pair, one voice against all the others. Numbers and pictures, no drawing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygotone.advise.hearing import Hearing
from zygotone.advise.masking import MaskingMap, masking_map, masking_of
from zygotone.advise.settling import Limits, Settled, settle, settle_song
from zygotone.advise.views import heard_at
from zygotone.dsp.giving_up import IsUnwanted, tell_share
from zygotone.dsp.types import FloatArray
from zygotone.engine.graph import Graph
from zygotone.engine.renderer import Renderer
from zygotone.session.models import Section

COLUMNS = 240  # of the picture over time
_ROWS = 6  # how many maskers are listed


@dataclass(frozen=True, slots=True)
class OneView:
    """One voice over a section, and what of it the others hide."""

    strip: str
    first_bar: int
    bars: int
    level: FloatArray  # (bands, COLUMNS), 0 to 1 of its loudest
    hidden: FloatArray  # (bands, COLUMNS), 0 to 1, the share of what sounds there
    share: float  # of all of it
    by_bar: FloatArray  # (bars,)
    maskers: tuple[str, ...]  # ids, who hides most first
    masker_by_bar: FloatArray  # (maskers, bars)
    lufs: float
    left_lu: float


def one_view(hearing: Hearing, strip_id: str) -> OneView | None:
    """None where it is not heard in the section."""
    masking = masking_of(hearing)
    if strip_id not in (*masking.sounding, *masking.groups):
        return None
    own = masking.heard(strip_id)
    whole = masking.against_all(strip_id)
    level, hidden = masking.picture(strip_id, COLUMNS)
    each = {m: masking.hiding(m, strip_id) for m in masking.others(strip_id)}
    order = tuple(sorted(each, key=lambda m: -each[m].share))[:_ROWS]
    by_bar = np.array([each[m].by_slot for m in order]) if order else np.zeros((0, masking.bars))
    assert own.pattern.shape[0] == 2
    return OneView(
        strip_id, hearing.first_bar, masking.bars, level, hidden, whole.share, whole.by_slot, order, by_bar,
        hearing.lufs(strip_id), masking.loudness_left_lu(strip_id),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class PairFit:
    """Two voices: their spectra, and what each hides of the other."""

    strips: tuple[str, str]
    first_bar: int
    spectra_db: tuple[FloatArray, FloatArray]  # at views.FREQS_HZ
    shares: tuple[float, float]  # of the first by the second, of the second by the first
    by_bar: tuple[FloatArray, FloatArray]
    by_band: tuple[FloatArray, FloatArray]


def pair_fit(hearing: Hearing, one: str, other: str) -> PairFit | None:
    """None where either is not heard, or one is part of the other."""
    masking = masking_of(hearing)
    if not masking.apart(one, other) or not {one, other} <= {*masking.sounding, *masking.groups}:
        return None
    first, second = masking.hiding(other, one), masking.hiding(one, other)
    curves = tuple(heard_at(hearing, hearing.graph.strip[s]).spectrum_db for s in (one, other))
    return PairFit(
        (one, other), hearing.first_bar, (curves[0], curves[1]), (first.share, second.share), (first.by_slot, second.by_slot),
        (first.by_band, second.by_band),
    )  # fmt: skip


# --- questions -----------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class MapOf:
    """Who hides whom in a version."""

    graph: Graph
    section: Section
    name: str = "masking map"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> MaskingMap:
        return masking_map(Hearing.of(self.graph, self.section, renderer, unwanted))


@dataclass(frozen=True, slots=True)
class OneOf:
    """A voice in A and B; None where a version has it not."""

    a: Graph
    b: Graph | None
    section: Section
    strip: str
    name: str = "one against all"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> tuple[OneView | None, OneView | None]:
        def of(graph: Graph | None) -> OneView | None:
            if graph is None or all(s.id != self.strip for s in graph.session.strips()):
                return None
            return one_view(Hearing.of(graph, self.section, renderer, unwanted), self.strip)

        return of(self.a), of(self.b)


@dataclass(frozen=True, slots=True)
class PairFitOf:
    """Two voices in A and B; None where a version has not both."""

    a: Graph
    b: Graph | None
    section: Section
    strips: tuple[str, str]
    name: str = "pair fit"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> tuple[PairFit | None, PairFit | None]:
        def of(graph: Graph | None) -> PairFit | None:
            if graph is None or not {s.id for s in graph.session.strips()}.issuperset(self.strips):
                return None
            return pair_fit(Hearing.of(graph, self.section, renderer, unwanted), *self.strips)

        return of(self.a), of(self.b)


@dataclass(frozen=True, slots=True)
class SettleOf:
    """The trials that settle a section of a version, or the whole song, within limits."""

    graph: Graph
    section: Section | None
    limits: Limits
    name: str = "settle"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> tuple[Settled, ...]:
        section = self.section or self.graph.session.song.sections[0]
        hearing = Hearing.of(self.graph, section, renderer, unwanted)
        search = settle if self.section is not None else settle_song
        return tuple(search(hearing, self.limits, progress=lambda share, words: tell_share(share)))
