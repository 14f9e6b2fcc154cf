"""Who hides whom over a span, as it is heard in the mix: after chains, faders and sends, and through the groups.

Conventions
-----------
A *voice* is a track or a return (a bus that something is sent to). A group is what its
tracks give together; the map has them too, rules speak of voices.
Patterns and weights are those of ``measure.hiding``; its slots of time are bars of the span.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np

from zygotone.advise.hearing import Hearing
from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.types import FloatArray, IntArray, Single
from zygotone.engine.pipeline import at_once
from zygotone.measure.hiding import Hiding, by_third_octave, hidden_weights, loudness_left_lu, summed, weights
from zygotone.measure.masking import Ears, bands_hz, excitation, excitation_of_ears, hop_frames, masked_threshold, quiet
from zygotone.session.models import Bus, Session, Strip, Track

_FEW = 4  # voices whose patterns are soon added up


def returns_of(session: Session) -> tuple[Bus, ...]:
    """Buses that something is sent to."""
    fed = {send.to for strip in session.strips() for send in strip.sends}
    return tuple(bus for bus in session.buses if bus.id in fed)


def groups_of(session: Session) -> tuple[Bus, ...]:
    """Buses that tracks lead to."""
    into = {track.bus for track in session.tracks}
    return tuple(bus for bus in session.buses if bus.id in into)


def voices_of(session: Session) -> tuple[Strip, ...]:
    """Tracks and returns that are heard, in the order of the session."""
    solo = any(s.solo for s in session.strips())
    strips = (*session.tracks, *returns_of(session))
    return tuple(s for s in strips if not s.mute and (not solo or s.solo or _group_is_solo(session, s)))


def _group_is_solo(session: Session, strip: Strip) -> bool:
    return isinstance(strip, Track) and strip.bus is not None and session.strip(strip.bus).solo


@dataclass(frozen=True, slots=True)
class HeardPattern:
    """One voice at both ears."""

    pattern: Single  # (2, bands, frames)
    weight: Single  # specific loudness, the same shape
    threshold: Single  # what another must exceed to be heard beside it


def masking_of(hearing: Hearing) -> Masking:
    """The masking facts of a hearing."""
    return hearing.once("masking", lambda: Masking(hearing))


class Masking:
    """The masking facts of one hearing; each is worked out when first asked for, and kept by the nodes it is of."""

    def __init__(self, hearing: Hearing) -> None:
        self.hearing = hearing
        self.session = hearing.session

    # --- time ----------------------------------------------------------------------------------------------

    @functools.cached_property
    def bars(self) -> int:
        start, end = self.hearing.span
        return max(1, round((end - start) / (self.session.song.bar_s * self.hearing.rate_hz)))

    def bar_of(self, frames: int) -> IntArray:
        """Bar of each of ``frames`` frames of a pattern, from 0, shape (frames,)."""
        per_bar = self.session.song.bar_s * self.hearing.rate_hz
        at = np.arange(frames) * hop_frames(self.hearing.rate_hz) / per_bar
        return np.minimum(at.astype(np.int64), self.bars - 1)

    # --- one voice -----------------------------------------------------------------------------------------

    def path_key(self, strip_id: str) -> str:
        """What a voice's pattern depends on."""
        return self.hearing.once(f"path of {strip_id}", lambda: self._path_key(strip_id))

    def _path_key(self, strip_id: str) -> str:
        strip, graph = self.session.strip(strip_id), self.hearing.graph
        keys = [graph.strip[strip_id].key, str(self.session.mix.level_db)]
        if isinstance(strip, Track) and strip.bus is not None:
            keys.append(
                graph.strip[strip.bus].key if self._shapes(strip.bus) else str(self.session.strip(strip.bus).level_db)
            )
        return "+".join(keys)

    def _shapes(self, bus_id: str) -> bool:
        """Whether a group does more to its tracks than turn them up or down."""
        bus = self.session.strip(bus_id)
        moved = any(lane.strip == bus_id and lane.moves for lane in self.session.lanes)
        return moved or bus.pan_pct != 0.0 or any(device.on for device in bus.chain)

    def heard(self, strip_id: str) -> HeardPattern:
        return self.hearing.fact("heard at both ears", self.path_key(strip_id), lambda: self._heard(strip_id))

    def _heard(self, strip_id: str) -> HeardPattern:
        ears = self._ears(strip_id)
        pattern = ears.pattern
        strip = self.session.strip(strip_id)
        gain_db = self.session.mix.level_db
        if isinstance(strip, Track) and strip.bus is not None:
            if self._shapes(strip.bus):
                pattern *= self._through(strip.bus)
            else:
                gain_db += self.session.strip(strip.bus).level_db
        pattern *= np.float32(10.0 ** (gain_db / 10.0))
        return HeardPattern(pattern, weights(pattern, ears.own), masked_threshold(pattern))

    def _ears(self, strip_id: str) -> Ears:
        return excitation_of_ears(self.hearing.kept(self.hearing.graph.strip[strip_id]), self.hearing.rate_hz)

    def _through(self, bus_id: str) -> Single:
        """What a group makes of the power of its tracks in each cell, (bands, frames), the mean of both sides: its EQ, its
        compression, its fader. 1 where next to nothing comes in."""
        node, rate = self.hearing.graph.strip[bus_id], self.hearing.rate_hz

        def work() -> Single:
            raw = self.hearing.graph.raw[bus_id]
            before, after = (excitation(self.hearing.kept(each), rate) for each in (raw, node))
            least = 1e-2 * quiet()[:, None]
            ratio = np.clip(after / np.maximum(before, least), 1e-5, 1e3)
            return np.where(before > least, ratio, 1.0).astype(np.float32)

        return self.hearing.fact("through a group", node.key, work)

    def total(self, strip_id: str) -> FloatArray:
        """Loudness of a voice by band and bar, (bands, bars), in no unit."""

        def work() -> FloatArray:
            weight = self.heard(strip_id).weight
            return summed(weight, self.bar_of(weight.shape[2]), self.bars)

        return self.hearing.fact("loudness by band and bar", self.path_key(strip_id), work)

    # --- together ------------------------------------------------------------------------------------------

    def hiding(self, masker: str, maskee: str) -> Hiding:
        """What one voice hides of another."""
        return self.among((masker,), maskee)

    def among(self, maskers: Iterable[str], maskee: str) -> Hiding:
        """What some voices together hide of another. The one hidden is not among them."""
        others = tuple(sorted(m for m in maskers if m != maskee))
        key = ">".join((*map(self.path_key, others), self.path_key(maskee)))

        def work() -> Hiding:
            if not others:  # it is alone
                return Hiding(0.0 * self.total(maskee), self.total(maskee))
            own = self.heard(maskee)
            bar = self.bar_of(own.pattern.shape[2])
            hidden = hidden_weights(own.pattern, own.weight, self._threshold(others), bar, self.bars)
            return Hiding(hidden, self.total(maskee))

        return self.hearing.fact("hidden", key, work)

    def _threshold(self, others: tuple[str, ...]) -> Single:
        if len(others) == 1:
            return self.heard(others[0]).threshold
        key = "+".join(map(self.path_key, others))
        return self.hearing.fact("masked threshold", key, lambda: masked_threshold(self._sum(others)))

    def _sum(self, voices: tuple[str, ...]) -> Single:
        """Patterns add up. Where nearly all are wanted, the sum of all less the rest is the quicker one."""
        if len(voices) <= _FEW:
            return np.asarray(np.sum([self.heard(v).pattern for v in voices], axis=0, dtype=np.float32))
        rest = [v for v in self.sounding if v not in voices]
        if len(rest) >= len(voices) or not set(voices) <= set(self.sounding):
            return np.asarray(np.sum([self.heard(v).pattern for v in voices], axis=0, dtype=np.float32))
        key = "+".join(map(self.path_key, self.sounding))
        total = self.hearing.fact(
            "all together",
            key,
            lambda: np.sum([self.heard(v).pattern for v in self.sounding], axis=0, dtype=np.float64),
        )
        left = total.copy()
        for v in rest:
            left -= self.heard(v).pattern
        return np.maximum(left, 0.0).astype(np.float32)

    def against_all(self, strip_id: str) -> Hiding:
        """What all others together hide of a voice."""
        return self.among(self.others(strip_id), strip_id)

    def others(self, strip_id: str) -> tuple[str, ...]:
        """All other voices that sound. A return that this one alone feeds is its own, and hides it as little as it does itself."""
        members = self.members(strip_id)
        if members:
            return tuple(v for v in self.sounding if v not in members)
        own = {send.to for send in self.session.strip(strip_id).sends}
        fed_by_more = {
            send.to for strip in self.session.strips() if strip.id != strip_id for send in strip.sends if not strip.mute
        }
        return tuple(v for v in self.sounding if v != strip_id and not (v in own and v not in fed_by_more))

    def members(self, strip_id: str) -> tuple[str, ...]:
        """Of a group its tracks; none of anything else."""
        return tuple(t.id for t in self.session.tracks if t.bus == strip_id)

    def apart(self, one: str, other: str) -> bool:
        """Whether two are neither one nor part of each other."""
        return one != other and other not in self.members(one) and one not in self.members(other)

    @functools.cached_property
    def groups(self) -> tuple[str, ...]:
        """Groups of two tracks and more that are heard."""
        sounding = set(self.sounding)
        return tuple(
            bus.id for bus in groups_of(self.session)
            if not bus.mute and len(sounding & set(self.members(bus.id))) > 1 and bus.id not in sounding
        )  # fmt: skip

    def loudness_left_lu(self, strip_id: str) -> float:
        """How much softer a voice seems among all others than it is alone; NaN of silence."""
        others = self.others(strip_id)
        if not others:
            return 0.0
        key = ">".join((*map(self.path_key, others), self.path_key(strip_id)))

        def work() -> float:
            own = self.heard(strip_id)
            return loudness_left_lu(own.pattern, own.weight, self._threshold(others))

        return self.hearing.fact("loudness left", key, work)

    def picture(self, strip_id: str, columns: int) -> tuple[FloatArray, FloatArray]:
        """A voice over time: loudness 0 to 1 of its loudest, and the share of it that all others hide; (bands, columns) each."""
        others = self.others(strip_id)
        key = ">".join((*map(self.path_key, others), self.path_key(strip_id), str(columns)))

        def work() -> tuple[FloatArray, FloatArray]:
            own = self.heard(strip_id)
            slot = np.minimum(np.arange(own.pattern.shape[2]) * columns // own.pattern.shape[2], columns - 1)
            total = summed(own.weight, slot, columns)
            hidden = (
                hidden_weights(own.pattern, own.weight, self._threshold(others), slot, columns)
                if others
                else 0.0 * total
            )
            return total / max(float(total.max(initial=0.0)), 1e-12), hidden / np.maximum(total, 1e-12)

        return self.hearing.fact("picture", key, work)

    @functools.cached_property
    def sounding(self) -> tuple[str, ...]:
        """Ids of the voices that are heard over the span."""
        return tuple(v.id for v in voices_of(self.session) if self.hearing.sounds(v.id))

    def prepare(self) -> None:
        """Works out the patterns of all voices side by side."""
        self.hearing.stem(self.session.mix.id)  # renders what they share in one pass
        voices = voices_of(self.session)
        groups = dict.fromkeys(v.bus for v in voices if isinstance(v, Track) and v.bus is not None)
        # What a group does before its tracks: they would wait for each other, as each needs it.
        works: list[Callable[[], object]] = []
        works += (functools.partial(self._through, bus) for bus in groups if bus is not None and self._shapes(bus))
        works += (functools.partial(self._heard_if_it_sounds, voice.id) for voice in voices)
        at_once(works)

    def _heard_if_it_sounds(self, strip_id: str) -> None:
        if self.hearing.sounds(strip_id):
            self.heard(strip_id)


@dataclass(frozen=True, slots=True)
class MaskingMap:
    """Who hides whom: shares from 0 to 1."""

    strips: tuple[str, ...]  # ids: voices that sound, then groups
    first_bar: int
    bars: int
    shares: FloatArray  # (maskers, maskees); NaN of what is no pair
    by_band: FloatArray  # (maskers, maskees, bands), of the whole of the maskee
    by_bar: FloatArray  # (maskers, maskees, bars), of what it is in that bar
    against_all: FloatArray  # (maskees,)
    left_lu: FloatArray  # (maskees,), loudness left among all others
    lufs: FloatArray  # (maskees,), alone
    weight: FloatArray  # (maskees,), loudness of all of it, in no unit: by what shares of several sections are averaged

    def to_json(self, session: Session) -> dict[str, Any]:
        """Tracks and returns by name, and each pair of them: shares from 0 to 1, by third octave shares of the whole maskee."""
        names = [session.strip(i).name for i in self.strips]
        pairs = [
            {
                "masker": names[i], "maskee": names[j], "hidden_share": round(float(self.shares[i, j]), 4),
                "by_bar": [round(float(x), 4) for x in self.by_bar[i, j]],
                "third_octaves": {hz: round(x, 4) for hz, x in by_third_octave(self.by_band[i, j]).items()},
            }
            for i in range(len(names)) for j in range(len(names)) if np.isfinite(self.shares[i, j])
        ]  # fmt: skip
        tracks = [
            {
                "name": name, "hidden_share": _or_none(self.against_all[i]), "loudness_left_lu": _or_none(self.left_lu[i]),
                "lufs": _or_none(self.lufs[i]), "audible_lufs": _or_none(self.lufs[i] + self.left_lu[i]),
            }
            for i, name in enumerate(names)
        ]  # fmt: skip
        return {"first_bar": self.first_bar, "bars": self.bars, "tracks": tracks, "pairs": pairs}


def _or_none(value: float) -> float | None:
    return round(float(value), 4) if np.isfinite(value) else None


def masking_map(hearing: Hearing) -> MaskingMap:
    """All pairs of tracks, returns and groups over the span; a group and its own tracks are no pair.

    Raises
    ------
    Cancelled : nobody waits for it any more.
    """
    masking = masking_of(hearing)
    masking.prepare()
    ids = (*masking.sounding, *masking.groups)
    n, bands = len(ids), len(bands_hz())
    shares = np.full((n, n), np.nan)
    by_band, by_bar = np.zeros((n, n, bands)), np.zeros((n, n, masking.bars))

    def row(i: int) -> None:
        for j, maskee in enumerate(ids):
            give_up_if_unwanted()
            if masking.apart(ids[i], maskee):
                hiding = masking.hiding(ids[i], maskee)
                shares[i, j], by_band[i, j], by_bar[i, j] = hiding.share, hiding.by_band, hiding.by_slot

    def one(maskee: str) -> tuple[float, float, float]:
        return masking.against_all(maskee).share, masking.loudness_left_lu(maskee), hearing.lufs(maskee)

    at_once([functools.partial(row, i) for i in range(n)])
    rest = at_once([functools.partial(one, maskee) for maskee in ids])
    against, left, lufs = (np.array([each[k] for each in rest]) for k in range(3))
    weight = np.array([float(masking.total(maskee).sum()) for maskee in ids])
    return MaskingMap(ids, hearing.first_bar, masking.bars, shares, by_band, by_bar, against, left, lufs, weight)


def song_json(session: Session, maps: Iterable[tuple[str, MaskingMap]]) -> dict[str, Any]:
    """Maps of sections, by name, and the pairs over all of them: shares of all of a maskee, in whatever section it sounds."""
    hidden: dict[tuple[str, str], float] = {}
    thirds: dict[tuple[str, str], dict[str, float]] = {}
    total: dict[str, float] = {}
    listed = []
    for name, found in maps:
        listed.append({"section": name, **found.to_json(session)})
        for j, maskee in enumerate(found.strips):
            total[maskee] = total.get(maskee, 0.0) + float(found.weight[j])
            for i, masker in enumerate(found.strips):
                if np.isfinite(found.shares[i, j]):
                    place = (masker, maskee)
                    hidden[place] = hidden.get(place, 0.0) + float(found.shares[i, j] * found.weight[j])
                    into = thirds.setdefault(place, {})
                    for hz, share in by_third_octave(found.by_band[i, j]).items():
                        into[hz] = into.get(hz, 0.0) + share * float(found.weight[j])
    pairs = [
        {
            "masker": session.strip(a).name, "maskee": session.strip(b).name,
            "hidden_share": round(share / max(total[b], 1e-12), 4),
            "third_octaves": {hz: round(x / max(total[b], 1e-12), 4) for hz, x in thirds[a, b].items()},
        }
        for (a, b), share in hidden.items()
    ]  # fmt: skip
    return {"tracks": [{"name": session.strip(i).name} for i in total], "pairs": pairs, "sections": listed}
