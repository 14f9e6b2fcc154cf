"""Layers that get in each other's way, do nothing, or do not do their job; and drums that are out of tune with the song."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import Any, TypeVar

import numpy as np

from zygotone.advise.findings import (
    RULES,
    Finding,
    FindProblems,
    Fix,
    Rule,
    Subject,
    WorkOutFixes,
    reading_of,
    share_lost,
    weighed,
)
from zygotone.advise.hearing import Hearing, sounds
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.measure.dynamics import attack_ms
from zygotone.measure.layers import (
    added_db,
    band_levels_db,
    band_powers,
    best_alignment,
    cancelling,
    layer_cancel,
    owners,
    share_between,
)
from zygotone.measure.loudness import integrated_lufs
from zygotone.measure.masking import HIDDEN, excitation, hidden_share
from zygotone.measure.pitch import fundamental_hz
from zygotone.measure.spectrum import spectrum
from zygotone.measure.stereo import side_share
from zygotone.music.keys import interval_above, nearest_in_key
from zygotone.music.pitch import name_pitch
from zygotone.session.edits import change_layer, layer_of, make_id
from zygotone.session.models import Device, InstrumentSource, Layer, Session, Track
from zygotone.session.parts import played_in
from zygotone.sources.drum import partial_ratios

_T = TypeVar("_T")

# Common practice throughout: below 80 Hz one layer is enough; a change of less than half a dB in every band is not heard; an
# attack is over within 15 ms; air is what lies above 6 kHz; the mud of a sound lies between 200 and 500 Hz.
SUB_HZ, SUB_GAP_DB = 80.0, 10.0
CANCELS_DB = -2.5
UNHEARD_DB = 0.5
ATTACK_MS = 15.0
AIR_HZ, AIR_SHARE = 6000.0, 0.15
SUB_SHARE = 0.5
WIDTH_SHARE = 0.08
MUD_HZ, MUD_DB = (200.0, 500.0), 3.0
OFF_CENTS = 30.0
_JOBS_MEASURED = ("attack", "air", "sub", "width")
_SUPPORT = ("attack", "bite", "air", "width", "texture")
_PITCHED_DRUMS = ("kick", "snare", "hat", "tom", "rim", "cymbal")


# --- the layers of a track, heard alone ----------------------------------------------------------------------------


def _tracks(session: Session) -> list[Subject]:
    return [(t.id,) for t in session.tracks if isinstance(t.source, InstrumentSource) and not t.mute]


def _instruments(hearing: Hearing, subject: Subject, *, at_least: int = 1) -> Iterator[tuple[Track, InstrumentSource]]:
    """The track, if it plays so many layers at once in the section."""
    track = hearing.session.track(subject[0])
    source = track.source
    if isinstance(source, InstrumentSource) and len(source.sounding) >= at_least and _sounds_in(track, hearing):
        yield track, source


def _sounds_in(track: Track, hearing: Hearing) -> bool:
    return any(part.section in (None, hearing.section.id) for part in track.parts)


@dataclass(frozen=True, slots=True)
class _Heard:
    """One layer alone: what is measured of it is remembered, its audio is fetched where it is needed."""

    hearing: Hearing
    track_id: str
    layer: Layer

    def fact(self, name: str, work: Callable[[Stereo], _T]) -> _T:
        key = self.hearing.layer_node(self.track_id, self.layer.id).key
        return self.hearing.fact(f"layer {name}", key, lambda: work(self.audio))

    @property
    def audio(self) -> Stereo:
        return self.hearing.layer(self.track_id, self.layer.id)

    @property
    def lufs(self) -> float:
        return self.fact("lufs", lambda audio: integrated_lufs(audio, self.hearing.rate_hz))

    @property
    def levels_db(self) -> FloatArray:
        """Of each third octave."""
        return self.fact("levels", lambda audio: band_levels_db(spectrum(audio, self.hearing.rate_hz)))

    @property
    def low_db(self) -> float:
        return float(10.0 * np.log10(np.sum(10.0 ** (self.levels_db[:7] / 10.0))))  # 20 to 80 Hz

    @property
    def powers(self) -> FloatArray:
        return self.fact("powers", lambda audio: band_powers(audio, self.hearing.rate_hz))


def _heard(hearing: Hearing, track: Track, source: InstrumentSource) -> list[_Heard]:
    """The sounding layers that can be heard at all, each alone."""
    found = [_Heard(hearing, track.id, layer) for layer in source.sounding]
    return [each for each in found if each.fact("sounds", sounds)]


def _finding(
    hearing: Hearing, name: str, track: Track, layers: tuple[Layer, ...], lost: float, sentence: str, advice: str,
    evidence: dict[str, float],
) -> Finding:  # fmt: skip
    parts = ".".join(layer.id for layer in layers)
    return Finding(
        id=f"{name.replace('_', '-')}.{track.id}.{parts}.{hearing.section.id}", rule=name, severity=weighed(lost, track.seat),
        tracks=(track.id,), section=hearing.section, stage="sounds", sentence=sentence, advice=advice, evidence=evidence,
        layers=tuple(layer.id for layer in layers),
    )  # fmt: skip


def _layers_of(finding: Finding, hearing: Hearing) -> list[Layer]:
    return [layer_of(hearing.session, finding.tracks[0], name) for name in finding.layers]


@dataclass(frozen=True, slots=True)
class _Judge:
    """The quantity by which the fixes of a rule are judged, and how it is taken of the layers of a finding."""

    name: str
    measure: Callable[[Hearing, str, tuple[str, ...]], float]

    def of(self, hearing: Hearing, finding: Finding) -> str:
        """The quantity, where it depends on what a layer is to do."""
        return next(iter(finding.evidence)) if self.name == "share" else self.name

    def numbers(self, hearing: Hearing, tracks: tuple[str, ...], layers: tuple[str, ...]) -> dict[str, float]:
        source = hearing.session.track(tracks[0]).source
        known = {layer.id for layer in source.layers} if isinstance(source, InstrumentSource) else set()
        if not known.issuperset(layers):
            return {}
        value = self.measure(hearing, tracks[0], layers)
        job = layer_of(hearing.session, tracks[0], layers[0]).job
        name = "attack_ms" if self.name == "share" and job == "attack" else self.name
        return {name: value} if math.isfinite(value) else {}

    def fix(self, hearing: Hearing, finding: Finding, label: str, detail: str, session: Session) -> Fix:
        """A fix with this measure before and after it."""
        name = self.of(hearing, finding)
        both = [
            self.numbers(h, finding.tracks, finding.layers).get(name) for h in (hearing, hearing.with_session(session))
        ]
        before, after = both
        return Fix(
            label=label, detail=detail,
            gain={name: after - before} if before is not None and after is not None else {},
            readings=(reading_of(name, before, after),),
            session=session,
        )  # fmt: skip


def _layer_eq(hearing: Hearing, track_id: str, layer: Layer, label: str, bands: list[dict[str, Any]]) -> Session:
    device = Device.model_validate(
        {"kind": "eq", "id": make_id("eq", (d.id for d in layer.chain)), "label": label, "bands": bands}
    )
    return change_layer(hearing.session, track_id, layer.id, chain=(*layer.chain, device))


# --- two layers own the sub ----------------------------------------------------------------------------------------


def _find_two_subs(hearing: Hearing, subject: Subject) -> list[Finding]:
    found = []
    for track, source in _instruments(hearing, subject, at_least=2):
        heard = _heard(hearing, track, source)
        if len(heard) < 2:
            continue
        loudness = max(each.lufs for each in heard)
        lows = sorted(((each.low_db, each.layer) for each in heard), key=lambda p: -p[0])
        (first_db, first), (second_db, second) = lows[0], lows[1]
        gap = first_db - second_db
        if gap > SUB_GAP_DB or first_db < loudness - 20.0:
            continue
        keeps, gives = (second, first) if second.job == "sub" and first.job != "sub" else (first, second)
        found.append(
            _finding(
                hearing, "two_subs", track, (gives, keeps), share_lost(SUB_GAP_DB - gap, 0.0, SUB_GAP_DB),
                f"{track.name}: {keeps.name} and {gives.name} both fill the octave below {SUB_HZ:.0f} Hz",
                f"Let {keeps.name} have it alone: cut {gives.name} below.", {"low_gap_db": gap},
            )
        )  # fmt: skip
    return found


def _low_gap(hearing: Hearing, track: str, layers: tuple[str, ...]) -> float:
    gives, keeps = (_Heard(hearing, track, layer_of(hearing.session, track, each)) for each in layers)
    return keeps.low_db - gives.low_db


_LOW_GAP = _Judge("low_gap_db", _low_gap)


def _fix_two_subs(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    gives, _ = _layers_of(finding, hearing)
    track = finding.tracks[0]
    fixes = []
    for hz in (90.0, 120.0):
        band = {"shape": "low_cut", "freq_hz": hz, "slope_db_oct": 24}
        session = _layer_eq(hearing, track, gives, "Clear of the sub", [band])
        fixes.append(
            _LOW_GAP.fix(hearing, finding, f"Cut {gives.name} below", f"{hz:.0f} Hz, 24 dB an octave", session)
        )
    return tuple(fixes)


# --- a pair that cancels -------------------------------------------------------------------------------------------


def _find_cancelling(hearing: Hearing, subject: Subject) -> list[Finding]:
    found = []
    for track, source in _instruments(hearing, subject, at_least=2):
        for first, second in combinations(_heard(hearing, track, source), 2):
            pair = cancelling(first.powers, second.powers, band_powers(first.audio + second.audio, hearing.rate_hz))
            if pair.worst_db > CANCELS_DB:
                continue
            one, other = first.layer, second.layer
            best = best_alignment(first.audio, second.audio, pair.worst_hz, hearing.rate_hz)
            # Where no offset makes them agree they are only different, and a lucky moment decides.
            if best.agreement < 0.5:
                continue
            what = (
                "turned over"
                if best.turn_over
                else f"{abs(best.later_ms):.1f} ms {'later' if best.later_ms > 0 else 'earlier'}"
            )
            found.append(
                _finding(
                    hearing, "layer_cancels", track, (one, other), share_lost(-pair.worst_db, 2.0, 9.0),
                    f"{track.name}: {one.name} and {other.name} cancel by {-pair.worst_db:.1f} dB near {pair.worst_hz:.0f} Hz",
                    f"They agree best with {other.name} {what}.",
                    {"cancel_db": pair.worst_db, "at_hz": pair.worst_hz, "later_ms": best.later_ms},
                )
            )  # fmt: skip
    return found


def _worst_cancel(hearing: Hearing, track: str, layers: tuple[str, ...]) -> float:
    one, other = (hearing.layer(track, each) for each in layers)
    return layer_cancel(one, other, hearing.rate_hz).worst_db


_CANCEL = _Judge("cancel_db", _worst_cancel)


def _fix_cancelling(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    one, other = _layers_of(finding, hearing)
    track = finding.tracks[0]
    a, b = (hearing.layer(track, layer.id) for layer in (one, other))
    best = best_alignment(a, b, finding.evidence["at_hz"], hearing.rate_hz)
    fixes = []
    turned = change_layer(hearing.session, track, other.id, polarity=not other.polarity)
    fixes.append(_CANCEL.fix(hearing, finding, f"Turn {other.name} over", "polarity", turned))
    start = other.start_ms + best.later_ms
    if abs(best.later_ms) > 0.01 and -100.0 <= start <= 1000.0:
        polarity = other.polarity != best.turn_over
        moved = change_layer(hearing.session, track, other.id, start_ms=start, polarity=polarity)
        detail = f"{best.later_ms:+.2f} ms" + (", turned over" if best.turn_over else "")
        fixes.append(_CANCEL.fix(hearing, finding, f"Move {other.name}", detail, moved))
    # The least harmful first, where both help: turning over moves nothing in time.
    helpful = [fix for fix in fixes if fix.gain.get("cancel_db", 0.0) > 0.5]
    return tuple(helpful or sorted(fixes, key=lambda f: -f.gain.get("cancel_db", 0.0)))


# --- a layer that adds nothing -------------------------------------------------------------------------------------


def _find_unheard(hearing: Hearing, subject: Subject) -> list[Finding]:
    found = []
    for track, source in _instruments(hearing, subject, at_least=2):
        layers = [(layer, hearing.layer(track.id, layer.id)) for layer in source.sounding]
        if len(layers) < 2 or not any(sounds(a) for _, a in layers):
            continue
        for n, (layer, _) in enumerate(layers):
            # Under the masked threshold of the rest; and, as layers of one sound may agree in phase, which a threshold of
            # noise knows nothing of, no change of level either.
            added = added_db([a for _, a in layers], n, hearing.rate_hz)
            if added >= UNHEARD_DB or not _plays(hearing, track, source, layer):
                continue
            hidden = _hidden([a for _, a in layers], n, hearing.rate_hz)
            if hidden > HIDDEN:
                found.append(
                    _finding(
                        hearing, "layer_unheard", track, (layer,), 0.5 * share_lost(hidden, HIDDEN, 1.0),
                        f"{track.name}: {layer.name} adds nothing that can be heard",
                        "Take it out, or turn it up until it is missed when it is gone.",
                        {"hidden_share": hidden, "added_db": added},
                    )
                )  # fmt: skip
    return found


def _plays(hearing: Hearing, track: Track, source: InstrumentSource, layer: Layer) -> bool:
    """Whether the section has notes at all for the layer's keys and velocities."""
    played = played_in(track.parts, hearing.section.id)
    notes = [note for phrase in source.phrases if phrase.id in played for note in phrase.notes]
    return any(
        layer.key_low <= n.pitch <= layer.key_high and layer.velocity_low <= n.velocity <= layer.velocity_high
        for n in notes
    )  # fmt: skip


def _hidden(layers: Sequence[Stereo], which: int, rate_hz: int) -> float:
    """Share of a layer that the others hide; a silent one is hidden."""
    own, rest = layers[which], np.sum([a for n, a in enumerate(layers) if n != which], axis=0)
    share = hidden_share(excitation(own, rate_hz), excitation(rest, rate_hz))
    return share if math.isfinite(share) else 1.0


def _hidden_of(hearing: Hearing, track: str, layers: tuple[str, ...]) -> float:
    source = hearing.session.track(track).source
    assert isinstance(source, InstrumentSource)
    ids = [layer.id for layer in source.sounding]
    if layers[0] not in ids:
        return math.nan
    return _hidden([hearing.layer(track, each) for each in ids], ids.index(layers[0]), hearing.rate_hz)


_HIDDEN_SHARE = _Judge("hidden_share", _hidden_of)


def _fix_unheard(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    layer = _layers_of(finding, hearing)[0]
    track = finding.tracks[0]
    out = change_layer(hearing.session, track, layer.id, mute=True)
    louder = change_layer(hearing.session, track, layer.id, level_db=min(24.0, layer.level_db + 12.0))
    return (
        _HIDDEN_SHARE.fix(hearing, finding, f"Take {layer.name} out", "muted", out),
        _HIDDEN_SHARE.fix(hearing, finding, f"Turn {layer.name} up", "+12 dB", louder),
    )


# --- a support layer louder than the lead --------------------------------------------------------------------------


def _find_too_loud(hearing: Hearing, subject: Subject) -> list[Finding]:
    found = []
    for track, source in _instruments(hearing, subject, at_least=2):
        heard = _heard(hearing, track, source)
        leads = [each.layer for each in heard if each.layer.job == "body"]
        if not leads:
            continue
        lufs = {each.layer.id: each.lufs for each in heard}
        lead = max(leads, key=lambda layer: lufs[layer.id])
        for layer in (each.layer for each in heard):
            over = lufs[layer.id] - lufs[lead.id]
            if layer.job in _SUPPORT and math.isfinite(over) and over > 0.0:
                found.append(
                    _finding(
                        hearing, "support_too_loud", track, (layer, lead), share_lost(over, 0.0, 8.0),
                        f"{track.name}: {layer.name} ({layer.job}) is {over:.1f} LU louder than {lead.name}, which it supports",
                        f"Lower {layer.name} until {lead.name} leads again.", {"over_lead_lu": over},
                    )
                )  # fmt: skip
    return found


def _over_lead(hearing: Hearing, track: str, layers: tuple[str, ...]) -> float:
    layer, lead = (_Heard(hearing, track, layer_of(hearing.session, track, each)) for each in layers)
    return layer.lufs - lead.lufs


_OVER = _Judge("over_lead_lu", _over_lead)


def _fix_too_loud(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    layer, lead = _layers_of(finding, hearing)
    track, over = finding.tracks[0], finding.evidence["over_lead_lu"]
    fixes = []
    for under in (3.0, 6.0):
        session = change_layer(hearing.session, track, layer.id, level_db=max(-60.0, layer.level_db - over - under))
        fixes.append(
            _OVER.fix(hearing, finding, f"Lower {layer.name}", f"to {under:.0f} LU under {lead.name}", session)
        )
    return tuple(fixes)


# --- a job not done ------------------------------------------------------------------------------------------------


def _job(layer: Layer, audio: Stereo, rate_hz: int) -> tuple[str, str, dict[str, float], float] | None:
    """What is wrong with a layer by its job: sentence, advice, evidence, share that is lost; None where it does it."""
    if layer.job == "attack":
        rise = attack_ms(audio, rate_hz)
        if math.isfinite(rise) and rise > ATTACK_MS:
            return (f"is to be the attack, and takes {rise:.0f} ms to rise", "An attack is over within some 15 ms.", {"attack_ms": rise}, share_lost(rise, ATTACK_MS, 80.0))  # fmt: skip
    limits = {"air": (AIR_HZ, rate_hz / 2, AIR_SHARE), "sub": (20.0, 1.25 * SUB_HZ, SUB_SHARE)}
    if layer.job in limits:
        low, high, least = limits[layer.job]
        share = share_between(audio, low, high, rate_hz)
        if share < least:
            where = f"above {AIR_HZ / 1000:.0f} kHz" if layer.job == "air" else f"below {high:.0f} Hz"
            return (f"is to be the {layer.job}, and has {100 * share:.0f} % of its power {where}", "Filter it to where it belongs, or give it the job it does.", {"share": share}, share_lost(least - share, 0.0, least))  # fmt: skip
    if layer.job == "width":
        share = side_share(audio)
        if share < WIDTH_SHARE:
            return (f"is to be the width, and is {100 * share:.0f} % wide", "Spread it, or give it the job it does.", {"share": share}, share_lost(WIDTH_SHARE - share, 0.0, WIDTH_SHARE))  # fmt: skip
    return None


def _find_job_not_done(hearing: Hearing, subject: Subject) -> list[Finding]:
    found = []
    for track, source in _instruments(hearing, subject):
        for each in _heard(hearing, track, source):
            layer = each.layer
            if layer.job not in _JOBS_MEASURED:
                continue
            wrong = _job(layer, each.audio, hearing.rate_hz)
            if wrong is not None:
                what, advice, evidence, lost = wrong
                found.append(_finding(hearing, "job_not_done", track, (layer,), lost, f"{track.name}: {layer.name} {what}", advice, evidence))  # fmt: skip
    return found


def _job_measure(hearing: Hearing, track: str, layers: tuple[str, ...]) -> float:
    layer = layer_of(hearing.session, track, layers[0])
    audio = hearing.layer(track, layer.id)
    if layer.job == "attack":
        return attack_ms(audio, hearing.rate_hz)
    if layer.job == "width":
        return side_share(audio)
    low, high = (AIR_HZ, hearing.rate_hz / 2) if layer.job == "air" else (20.0, 1.25 * SUB_HZ)
    return share_between(audio, low, high, hearing.rate_hz)


_SHARE = _Judge("share", _job_measure)


def _fix_job(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    layer = _layers_of(finding, hearing)[0]
    track = finding.tracks[0]
    if layer.job == "attack":
        quick = layer.envelope.replace(attack_ms=0.5, delay_ms=0.0)
        session = change_layer(hearing.session, track, layer.id, envelope=quick)
        label, detail = "Let it rise at once", "attack 0.5 ms"
    elif layer.job == "air":
        band = {"shape": "low_cut", "freq_hz": AIR_HZ, "slope_db_oct": 24}
        session = _layer_eq(hearing, track, layer, "Only air", [band])
        label, detail = "Leave only the air", f"cut below {AIR_HZ / 1000:.0f} kHz"
    elif layer.job == "sub":
        band = {"shape": "high_cut", "freq_hz": 1.25 * SUB_HZ, "slope_db_oct": 24}
        session = _layer_eq(hearing, track, layer, "Only sub", [band])
        label, detail = "Leave only the sub", f"cut above {1.25 * SUB_HZ:.0f} Hz"
    else:
        taken = make_id("spread", (d.id for d in layer.chain))
        device = Device.model_validate({"kind": "spread", "id": taken, "method": "allpass"})
        session = change_layer(hearing.session, track, layer.id, chain=(*layer.chain, device))
        label, detail = "Spread it", "all-passes"
    renamed = change_layer(hearing.session, track, layer.id, job="texture")
    return (
        _SHARE.fix(hearing, finding, label, detail, session),
        Fix(label="Call it a texture", detail="the job it does", session=renamed),
    )


# --- build-up between 200 and 500 Hz -------------------------------------------------------------------------------


def mud_db(levels: FloatArray) -> float:
    """Of the levels in third octaves, as ``band_levels_db`` has them: mean level of the third octaves from 200 to 500 Hz over that of the octave below and the two above."""
    inside = levels[10:15]  # 200, 250, 315, 400, 500
    around = np.concatenate([levels[7:10], levels[15:21]])

    def mean(v: Any) -> float:
        return float(10.0 * np.log10(np.mean(10.0 ** (v / 10.0))))

    return mean(inside) - mean(around)


def _sum_of(hearing: Hearing, track: Track) -> Stereo:
    source = track.source
    assert isinstance(source, InstrumentSource)
    return np.asarray(np.sum([hearing.layer(track.id, layer.id) for layer in source.sounding], axis=0))


def _find_build_up(hearing: Hearing, subject: Subject) -> list[Finding]:
    found = []
    for track, source in _instruments(hearing, subject, at_least=2):
        heard = _heard(hearing, track, source)
        if len(heard) < 2:
            continue
        levels = np.array([each.levels_db for each in heard])
        shared = [owner for owner in owners(levels)[10:15] if len(owner) > 1]
        if len(shared) < 3:
            continue
        over = mud_db(band_levels_db(spectrum(_sum_of(hearing, track), hearing.rate_hz)))
        if over < MUD_DB:
            continue
        here = np.sum(10.0 ** (levels[:, 10:15] / 10.0), axis=1)
        order = [heard[i].layer for i in np.argsort(-here)]
        gives = next((layer for layer in order if layer.job != "body"), order[1])
        keeps = next(layer for layer in order if layer.id != gives.id)
        found.append(
            _finding(
                hearing, "build_up", track, (gives, keeps), share_lost(over, MUD_DB, 12.0),
                f"{track.name}: {gives.name} and {keeps.name} pile up between 200 and 500 Hz",
                f"Dip {gives.name} there; {keeps.name} keeps its body.", {"mud_db": over},
            )
        )  # fmt: skip
    return found


def _mud(hearing: Hearing, track: str, layers: tuple[str, ...]) -> float:
    return mud_db(band_levels_db(spectrum(_sum_of(hearing, hearing.session.track(track)), hearing.rate_hz)))


_MUD = _Judge("mud_db", _mud)


def _fix_build_up(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    gives = _layers_of(finding, hearing)[0]
    fixes = []
    for gain in (-4.0, -8.0):
        band = {"freq_hz": 320.0, "gain_db": gain, "q": 0.8}
        session = _layer_eq(hearing, finding.tracks[0], gives, "Out of the mud", [band])
        fixes.append(
            _MUD.fix(hearing, finding, f"Dip {gives.name}", f"{gain:.0f} dB at 320 Hz".replace("-", "−"), session)
        )
    return tuple(fixes)


# --- drums against the key -----------------------------------------------------------------------------------------


def _find_off_key(hearing: Hearing, subject: Subject) -> list[Finding]:
    found: list[Finding] = []
    key, a4 = hearing.session.song.parsed_key, hearing.session.song.a4_hz
    if key is None:
        return found
    for track, source in _instruments(hearing, subject):
        if track.role not in ("kick", "snare", "hats", "percussion"):
            continue
        for each in _heard(hearing, track, source):
            layer = each.layer
            if layer.sound.kind != "drum" or layer.sound.params["model"] not in _PITCHED_DRUMS:
                continue
            hz = each.fact("drum pitch", lambda audio, drum=layer: _drum_hz(drum, audio, hearing.rate_hz))  # type: ignore[misc]
            if not math.isfinite(hz):
                continue
            wanted = nearest_in_key(hz, key, a4_hz=a4)
            off = 1200.0 * math.log2(hz / wanted)
            step = interval_above(key.tonic, hz, a4_hz=a4)
            if abs(off) < OFF_CENTS or step.semitones % 12 not in (1, 6, 11):
                continue
            found.append(
                _finding(
                    hearing, "drum_off_key", track, (layer,), share_lost(1.0 - step.consonance, 0.3, 0.95),
                    f"{track.name}: {layer.name} rings at {name_pitch(hz, a4_hz=a4).note}, a {step.name} from {key.name.split()[0]}",
                    f"The nearest consonant tuning is {name_pitch(wanted, a4_hz=a4).note}, {abs(off):.0f} cents away.",
                    {"fundamental_hz": hz, "wanted_hz": wanted, "cents_off": off},
                )
            )  # fmt: skip
    return found


def _drum_hz(layer: Layer, audio: Stereo, rate_hz: int) -> float:
    """What is heard of a drum's pitch: the measured fundamental, if it is one of the drum's own partials."""
    heard = fundamental_hz(audio, rate_hz)
    tuned = layer.sound.params["tune_hz"]
    if not math.isfinite(heard):
        # Above where pitches are looked for, metal rings where it is tuned, if its tone stands out of the noise.
        p = layer.sound.params
        return (
            float(tuned)
            if tuned > 2000.0 and p["tone_db"] > -60.0 and p["tone_db"] > p["noise_db"] - 12.0
            else math.nan
        )
    ratios = partial_ratios(layer.sound.params["model"])
    octaves = [abs(math.log2(heard / (tuned * r))) for r in ratios]
    # Played off C4 the whole drum moves; what is not near a partial then is taken as it is heard.
    return float(heard) / ratios[int(np.argmin(octaves))] if min(octaves) < 0.02 else float(heard)


def _off_key(hearing: Hearing, track: str, layers: tuple[str, ...]) -> float:
    layer, song = layer_of(hearing.session, track, layers[0]), hearing.session.song
    hz, key = _drum_hz(layer, hearing.layer(track, layer.id), hearing.rate_hz), song.parsed_key
    if not math.isfinite(hz) or key is None:
        return math.nan
    return abs(1200.0 * math.log2(hz / nearest_in_key(hz, key, a4_hz=song.a4_hz)))


_OFF_KEY = _Judge("cents_off", _off_key)


def _fix_off_key(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    layer = _layers_of(finding, hearing)[0]
    ratio = finding.evidence["wanted_hz"] / finding.evidence["fundamental_hz"]
    tuned = layer.sound.params["tune_hz"] * ratio
    session = change_layer(hearing.session, finding.tracks[0], layer.id, sound={"tune_hz": tuned})
    name = name_pitch(finding.evidence["wanted_hz"], a4_hz=hearing.session.song.a4_hz).note
    return (_OFF_KEY.fix(hearing, finding, f"Tune {layer.name}", f"to {name}", session),)


def _enter(
    name: str, title: str, find: FindProblems, fixes: WorkOutFixes, judge: _Judge, threshold: float, source: str,
    *more: str,
) -> None:  # fmt: skip
    RULES.enter(
        Rule(
            name=name, title=title, over="layers", reads=(judge.name, *more), threshold=threshold, source=source, stage="sounds",
            subjects=_tracks, find=find, fixes=fixes, numbers=judge.numbers,
        )
    )  # fmt: skip


_PRACTICE = "common practice"
_enter("two_subs", "Two layers own the sub", _find_two_subs, _fix_two_subs, _LOW_GAP, SUB_GAP_DB, _PRACTICE)
_enter(
    "layer_cancels",
    "Layers that cancel",
    _find_cancelling,
    _fix_cancelling,
    _CANCEL,
    CANCELS_DB,
    _PRACTICE,
    "at_hz",
    "later_ms",
)
_enter(
    "layer_unheard",
    "A layer that adds nothing",
    _find_unheard,
    _fix_unheard,
    _HIDDEN_SHARE,
    HIDDEN,
    "Moore, Glasberg and Baer 1997, from memory",
    "added_db",
)
_enter("support_too_loud", "A support louder than the lead", _find_too_loud, _fix_too_loud, _OVER, 0.0, _PRACTICE)
_enter(
    "job_not_done",
    "A layer that does not do its job",
    _find_job_not_done,
    _fix_job,
    _SHARE,
    SUB_SHARE,
    _PRACTICE,
    "attack_ms",
)
_enter("build_up", "Layers that pile up", _find_build_up, _fix_build_up, _MUD, MUD_DB, _PRACTICE)
_enter(
    "drum_off_key",
    "A drum out of tune",
    _find_off_key,
    _fix_off_key,
    _OFF_KEY,
    OFF_CENTS,
    _PRACTICE,
    "fundamental_hz",
    "wanted_hz",
)
