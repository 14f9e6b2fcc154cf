"""One kick and one bass over a section: everything measured of them, and fixes measured against it."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np

from zygotone.advise.findings import Finding, Fix, Subject, finite, reading_of
from zygotone.advise.hearing import Hearing
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.measure.low_end import (
    Clearness,
    Kick,
    bass_pitches,
    clearness,
    click_clear_db,
    find_kick,
    hit_energies,
    loudness_lost_lu,
    onset_gaps_ms,
    shared_hz,
)
from zygotone.session.models import LOW_ROLES, Session, Track

_T = TypeVar("_T")
_SEARCH_S = 40.0


@dataclass(frozen=True)
class Pair:
    """Everything measured of one kick and one bass over a section."""

    hearing: Hearing
    kick_track: Track
    bass_track: Track
    kick: Kick
    bass_hz: float
    shared: str  # "fundamental", "octave" or ""
    gap_ms: float  # NaN where no bass note begins near a hit
    clear_db: float

    @functools.cached_property
    def kick_energies(self) -> FloatArray:
        """In the kick's band, in the 100 ms of each of its hits, (hits,)."""
        return self._energies(self.kick_track)

    @functools.cached_property
    def bass_energies(self) -> FloatArray:
        """Of the bass in the same band and at the same time, (hits,)."""
        return self._energies(self.bass_track)

    def _energies(self, track: Track) -> FloatArray:
        hearing = self.hearing
        key = f"{hearing.graph.strip[track.id].key} {self.kick.key}"
        return hearing.fact(
            "hit energies", key, lambda: hit_energies(hearing.stem(track.id), self.kick, hearing.rate_hz)
        )

    @property
    def bass(self) -> Stereo:
        """The bass after its chain, level and pan, (2, frames)."""
        return self.hearing.stem(self.bass_track.id)

    @functools.cached_property
    def click_clear_db(self) -> float:
        """NaN where no bass note begins at a hit."""
        return self._fact("click", lambda: self.click_against(self.bass))

    def click_against(self, bass: Stereo) -> float:
        """How far the kick's click is over another take of the bass, (2, frames), in dB; NaN where no note of it begins at a hit."""
        kick = self.hearing.stem(self.kick_track.id)
        return click_clear_db(kick, bass, self.kick, self.hearing.rate_hz)

    @functools.cached_property
    def now(self) -> Clearness:
        """How clear the kick is as things are, and at which hits it is judged."""
        return clearness(self.kick_energies, self.bass_energies)

    def _fact(self, name: str, work: Callable[[], _T]) -> _T:
        """Of the two as they are now."""
        keys = (self.hearing.graph.strip[track.id].key for track in (self.kick_track, self.bass_track))
        return self.hearing.fact(name, "+".join((*keys, self.kick.key)), work)

    def clear_of(self, bass: Stereo) -> float:
        """kick_clear_db against another take of the bass."""
        return clearness(self.kick_energies, hit_energies(bass, self.kick, self.hearing.rate_hz)).clear_db

    def clear_with(self, session: Session) -> float:
        """kick_clear_db with another version of the session."""
        return replace(self, hearing=self.hearing.with_session(session)).now.clear_db

    @functools.cached_property
    def excerpt(self) -> Pair:
        """The same pair over at most 40 s from the first hit: long enough to search on."""
        hearing, rate = self.hearing, self.hearing.rate_hz
        start, end = hearing.span
        first = max(start, start + self.kick.onsets[0] - rate)
        last = min(end, first + round(_SEARCH_S * rate))
        if last - first >= end - start - rate:
            return self
        inside = tuple(at - (first - start) for at in self.kick.onsets if at < last - start - rate // 5)
        pair = replace(self, hearing=hearing.with_excerpt(first, last), kick=replace(self.kick, onsets=inside))
        return replace(pair, clear_db=pair.clear_with(hearing.session))

    def evidence(self) -> dict[str, float]:
        return finite(
            {
                "kick_hz": self.kick.fundamental_hz,
                "bass_hz": self.bass_hz,
                "onset_gap_ms": self.gap_ms,
                "kick_clear_db": self.clear_db,
                "kick_clear_share": self.now.clear_share,
                "kick_clear_worst_db": self.now.worst_db,
            }
        )


def measure_pair(hearing: Hearing, kick_id: str, bass_id: str) -> Pair | None:
    """None where the two do not sound together, or the kick has no pitch."""
    kick_track, bass_track = hearing.session.track(kick_id), hearing.session.track(bass_id)
    if not (hearing.sounds(kick_id) and hearing.sounds(bass_id)):
        return None
    keys = [hearing.graph.strip[strip_id].key for strip_id in (kick_id, bass_id)]
    rate = hearing.rate_hz
    kick = hearing.fact("kick", keys[0], lambda: find_kick(hearing.stem(kick_id), rate, onsets=hearing.hits(kick_id)))
    if kick is None:
        return None

    def together() -> tuple[float, str, float]:
        kick_stem, bass_stem = hearing.stem(kick_id), hearing.stem(bass_id)
        bass_hz, shared = shared_hz(kick.fundamental_hz, bass_pitches(bass_stem, kick, rate))
        gaps = onset_gaps_ms(kick_stem, bass_stem, kick, rate)
        # One or two stray onsets among many hits are no habit of the player's.
        gap_ms = float(np.median(gaps)) if len(gaps) >= max(1, 0.2 * len(kick.onsets)) else math.nan
        return bass_hz, shared, gap_ms

    pair = Pair(
        hearing, kick_track, bass_track, kick, *hearing.fact("kick and bass", "+".join(keys), together), math.nan
    )
    return replace(pair, clear_db=pair.now.clear_db)


def pairs_of(session: Session) -> list[Subject]:
    """Each kick with each bass that is not muted."""
    lows = session.with_role(*LOW_ROLES)
    return [(k.id, b.id) for k in session.with_role("kick") for b in lows if not k.mute and not b.mute]


def pair_numbers(hearing: Hearing, tracks: Subject, layers: tuple[str, ...] = ()) -> dict[str, float]:
    """What fixes between a kick and a bass change, as it is now."""
    pair = measure_pair(hearing, *tracks)
    if pair is None:
        return {}
    keyed = [d.id for d in pair.bass_track.chain if d.key is not None]
    values = {
        "click_clear_db": pair.click_clear_db,
        "bass_lufs": hearing.lufs(pair.bass_track.id),
        "pumping_db": max((hearing.pumping_db(pair.bass_track.id, i) for i in keyed), default=0.0),
    }
    return pair.evidence() | finite(values)


def pair_of(hearing: Hearing, finding: Finding) -> Pair:
    pair = measure_pair(hearing, *finding.tracks)
    assert pair is not None, "a finding is of a pair that sounds"
    return pair


def measured_fix(
    pair: Pair, label: str, detail: str, school: str, session: Session, *, device_id: str | None = None
) -> Fix:
    """The fix with its gain and cost, measured on the rendered section."""
    hearing, rate = pair.hearing, pair.hearing.rate_hz
    after = hearing.with_session(session)
    bass = after.stem(pair.bass_track.id)
    clear_db = pair.clear_of(bass)
    lost = loudness_lost_lu(pair.bass, bass, rate)
    pumping = 0.0
    if device_id is not None:
        pumping = after.pumping_db(pair.bass_track.id, device_id)
    bass_lufs = [h.lufs(pair.bass_track.id) for h in (hearing, after)]
    return Fix(
        label=label,
        detail=detail,
        school=school,
        gain={"kick_clear_db": clear_db - pair.clear_db},
        cost={"bass_lost_lu": lost if math.isfinite(lost) else 0.0, "pumping_db": pumping},
        readings=(
            reading_of("kick_clear_db", pair.clear_db, clear_db),
            reading_of("bass_lufs", *bass_lufs),
            reading_of("pumping_db", 0.0, pumping),
        ),
        session=session,
    )


def no_fix(label: str, school: str, why: str) -> Fix:
    return Fix(label=label, school=school, applies=False, why_not=why)


def in_ms(value: float) -> str:
    return f"{value:+.1f} ms".replace("-", "−")


def in_db(value: float) -> str:
    return f"{value:+.1f} dB".replace("-", "−")
