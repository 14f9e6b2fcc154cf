"""Kick and bass: what is wrong between them, and the ladder of fixes, least harmful first."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from zygotone.advise.findings import Context, Finding, Fix, rule, severity_of, sounds
from zygotone.dsp.dynamics import Level
from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, bandpass_sos, filtered, highpass_sos
from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.graph import compile_session
from zygotone.errors import LoopError
from zygotone.measure.dynamics import band_limited, pumping_db
from zygotone.measure.loudness import integrated_lufs
from zygotone.measure.low_end import (
    CLEAR_DB,
    CLICK_HZ,
    Clearness,
    Kick,
    bass_pitches,
    clearness,
    click_clear_db,
    find_kick,
    hit_energies,
    kick_band,
    loudness_lost_lu,
    onset_gaps_ms,
    shared_hz,
)
from zygotone.measure.spectrum import peak_q, spectrum
from zygotone.music.pitch import name_pitch
from zygotone.session.bench import Reading
from zygotone.session.edits import change_strip, insert_device, new_device
from zygotone.session.models import LOW_ROLES, Device, InstrumentSource, KeyInput, Layer, Session, Track

# Starts closer than this are heard as one (common practice; the ear's own limit is near 2 ms).
EARLY_MS, LATE_MS = -1.5, 15.0
_TARGET_DB = CLEAR_DB + 0.25  # what the search aims at, so that the promise holds after rounding
_DEEPEST_CARVE_DB, _DEEPEST_DIP_DB, _DEEPEST_DUCK_DB, _DEEPEST_ONSET_DB = -9.0, -15.0, -15.0, -18.0
_LONGEST_ATTACK_MS = 60.0
_SEARCH_S = 40.0


@dataclass(frozen=True)
class Pair:
    """Everything measured of one kick and one bass over a section."""

    context: Context
    kick_track: Track
    bass_track: Track
    kick: Kick
    bass_hz: float
    shared: str  # "fundamental", "octave" or ""
    gap_ms: float  # NaN where no bass note begins near a hit
    clear_db: float

    @functools.cached_property
    def kick_energies(self) -> FloatArray:
        return hit_energies(self.context.stem(self.kick_track.id), self.kick, self.context.rate_hz)

    @functools.cached_property
    def bass(self) -> Stereo:
        return self.context.stem(self.bass_track.id)

    @functools.cached_property
    def click_clear_db(self) -> float:
        """NaN where no bass note begins at a hit."""
        return self.click_against(self.bass)

    def click_against(self, bass: Stereo) -> float:
        kick = self.context.stem(self.kick_track.id)
        return click_clear_db(kick, bass, self.kick, self.context.rate_hz)

    @functools.cached_property
    def now(self) -> Clearness:
        """How clear the kick is as things are, and at which hits it is judged."""
        return clearness(self.kick_energies, hit_energies(self.bass, self.kick, self.context.rate_hz))

    def clear_of(self, bass: Stereo) -> float:
        """kick_clear_db against another take of the bass."""
        return clearness(self.kick_energies, hit_energies(bass, self.kick, self.context.rate_hz)).clear_db

    def clear_with(self, session: Session) -> float:
        """kick_clear_db with another version of the session."""
        return self.clear_of(self.context.with_session(session).stem(self.bass_track.id))

    @functools.cached_property
    def excerpt(self) -> Pair:
        """The same pair over at most 40 s from the first hit: long enough to search on."""
        context, rate = self.context, self.context.rate_hz
        start, end = context.span
        first = max(start, start + self.kick.onsets[0] - rate)
        last = min(end, first + round(_SEARCH_S * rate))
        if last - first >= end - start - rate:
            return self
        inside = tuple(at - (first - start) for at in self.kick.onsets if at < last - start - rate // 5)
        part = Context(context.session, context.section, context.renderer, context.cancelled, (first, last))
        pair = replace(self, context=part, kick=replace(self.kick, onsets=inside))
        return replace(pair, clear_db=pair.clear_with(context.session))

    def evidence(self) -> dict[str, float]:
        values = {"kick_hz": self.kick.fundamental_hz, "bass_hz": self.bass_hz, "onset_gap_ms": self.gap_ms, "kick_clear_db": self.clear_db, "kick_clear_share": self.now.clear_share, "kick_clear_worst_db": self.now.worst_db}  # fmt: skip
        return {name: value for name, value in values.items() if math.isfinite(value)}


def measure_pair(context: Context, kick_track: Track, bass_track: Track) -> Pair | None:
    """None where the two do not sound together, or the kick has no pitch."""
    kick_stem, bass_stem = context.stem(kick_track.id), context.stem(bass_track.id)
    if not (sounds(kick_stem) and sounds(bass_stem)):
        return None
    kick = find_kick(kick_stem, context.rate_hz)
    if kick is None:
        return None
    bass_hz, shared = shared_hz(kick.fundamental_hz, bass_pitches(bass_stem, kick, context.rate_hz))
    gaps = onset_gaps_ms(kick_stem, bass_stem, kick, context.rate_hz)
    # One or two stray onsets among many hits are no habit of the player's.
    gap_ms = float(np.median(gaps)) if len(gaps) >= max(1, 0.2 * len(kick.onsets)) else math.nan
    pair = Pair(context, kick_track, bass_track, kick, bass_hz, shared, gap_ms, math.nan)
    return replace(pair, clear_db=pair.now.clear_db)


def _pairs(context: Context) -> list[Pair]:
    pairs = [
        measure_pair(context, kick, bass)
        for kick in context.session.with_role("kick")
        for bass in context.session.with_role(*LOW_ROLES)
        if not kick.mute and not bass.mute
    ]
    return [pair for pair in pairs if pair is not None]


def _ms(value: float) -> str:
    return f"{value:+.1f} ms".replace("-", "−")


def _db(value: float) -> str:
    return f"{value:+.1f} dB".replace("-", "−")


# --- findings ----------------------------------------------------------------------------------------------------


def find_clash(context: Context) -> list[Finding]:
    found = []
    for pair in _pairs(context):
        if not pair.clear_db < CLEAR_DB:
            continue
        kick_hz = pair.kick.fundamental_hz
        names = f"{pair.kick_track.name} and {pair.bass_track.name}"
        if pair.shared == "fundamental":
            sentence = f"{names} share {kick_hz:.1f} Hz ({name_pitch(kick_hz, a4_hz=context.session.song.a4_hz)})"
        elif pair.shared == "octave":
            sentence = f"{names} lie an octave apart, {kick_hz:.1f} and {pair.bass_hz:.1f} Hz, in one band"
        else:
            low, high = kick_band(kick_hz)
            sentence = f"{pair.bass_track.name} covers {pair.kick_track.name} between {low:.0f} and {high:.0f} Hz"
        found.append(
            Finding(
                id=f"kick-bass.{pair.kick_track.id}.{pair.bass_track.id}.{context.section.id}",
                rule="kick_bass_clash",
                severity=max(0.15, severity_of(CLEAR_DB - pair.clear_db, 0.0, 9.0)),
                tracks=(pair.kick_track.id, pair.bass_track.id),
                section=context.section,
                stage="fit",
                sentence=sentence,
                advice=(
                    f"Where both sound the kick is {_db(pair.clear_db)} clear during its first 100 ms; +3 dB is clear, and "
                    f"{100.0 * pair.now.clear_share:.0f} % of its hits are. The worst tenth lies under {_db(pair.now.worst_db)}."
                ),
                evidence=pair.evidence(),
            )
        )
    return found


def find_timing(context: Context) -> list[Finding]:
    found = []
    for pair in _pairs(context):
        if not (pair.gap_ms < EARLY_MS or pair.gap_ms > LATE_MS):
            continue
        early = pair.gap_ms < 0.0
        sentence = (
            f"{pair.bass_track.name} starts {abs(pair.gap_ms):.1f} ms "
            f"{'before' if early else 'after'} {pair.kick_track.name}"
        )
        found.append(
            Finding(
                id=f"kick-bass-start.{pair.kick_track.id}.{pair.bass_track.id}.{context.section.id}",
                rule="kick_bass_timing",
                severity=max(0.15, severity_of(abs(pair.gap_ms), 0.0, 25.0)),
                tracks=(pair.kick_track.id, pair.bass_track.id),
                section=context.section,
                stage="fit",
                sentence=sentence,
                advice="It takes the kick's attack away." if early else "The low end speaks twice.",
                evidence=pair.evidence(),
            )
        )
    return found


# A click that is so far under the bass's own attack is not heard through it; found from here on (common practice).
BURIED_DB, CLICK_TARGET_DB = -6.0, 0.0


def find_buried_click(context: Context) -> list[Finding]:
    found = []
    for pair in _pairs(context):
        clear = pair.click_clear_db
        if not clear < BURIED_DB:
            continue
        bass, kick = pair.bass_track.name, pair.kick_track.name
        found.append(
            Finding(
                id=f"kick-click.{pair.kick_track.id}.{pair.bass_track.id}.{context.section.id}",
                rule="kick_click_buried",
                severity=max(0.15, severity_of(-clear, 3.0, 20.0)),
                tracks=(pair.kick_track.id, pair.bass_track.id),
                section=context.section,
                stage="fit",
                sentence=f"{bass}'s attack lies {-clear:.0f} dB over {kick}'s click above 1.5 kHz",
                advice="The click is what a kick is heard by on small speakers; as the notes begin together, it is buried.",
                evidence=pair.evidence() | {"click_clear_db": clear},
            )
        )
    return found


# --- the ladder --------------------------------------------------------------------------------------------------


def clash_fixes(context: Context, finding: Finding) -> tuple[Fix, ...]:
    pair = _pair_of(context, finding)
    return tuple(rung(pair) for rung in (line_up, shape_onset, carve, dip, duck))


def timing_fixes(context: Context, finding: Finding) -> tuple[Fix, ...]:
    return (line_up(_pair_of(context, finding), for_timing=True),)


def _pair_of(context: Context, finding: Finding) -> Pair:
    kick, bass = (context.session.track(t) for t in finding.tracks)
    pair = measure_pair(context, kick, bass)
    assert pair is not None, "a finding is of a pair that sounds"
    return pair


def _measured(
    pair: Pair, label: str, detail: str, school: str, session: Session, *, device_id: str | None = None
) -> Fix:
    """The fix with its gain and cost, measured on the rendered section."""
    context, rate = pair.context, pair.context.rate_hz
    after = context.with_session(session)
    bass = after.stem(pair.bass_track.id)
    clear_db = pair.clear_of(bass)
    lost = loudness_lost_lu(pair.bass, bass, rate)
    pumping = 0.0
    if device_id is not None:
        pumping = _pumping(after, pair.bass_track.id, device_id)
    bass_lufs = [_finite(integrated_lufs(stem, rate)) for stem in (pair.bass, bass)]
    return Fix(
        label=label,
        detail=detail,
        school=school,
        gain={"kick_clear_db": clear_db - pair.clear_db},
        cost={"bass_lost_lu": lost if math.isfinite(lost) else 0.0, "pumping_db": pumping},
        readings=(
            Reading(name="kick_clear_db", label="Kick clear of bass", unit="dB", before=pair.clear_db, after=clear_db),
            Reading(name="bass_lufs", label="Bass loudness", unit="LUFS", before=bass_lufs[0], after=bass_lufs[1]),
            Reading(name="pumping_db", label="Pumping", unit="dB", before=0.0, after=pumping),
        ),
        session=session,
    )


def _pumping(context: Context, strip_id: str, device_id: str) -> float:
    """pumping_db of one device; 0 for one whose gain stands still."""
    before, after = context.graph.tap(strip_id, device_id)
    take = context.renderer.take
    gain_db = take(context.graph, after, context.span, cancelled=context.cancelled).gain_db
    if gain_db is None or before is after:
        return 0.0
    audio = take(context.graph, before, context.span, cancelled=context.cancelled).audio
    return pumping_db(gain_db, audio, context.rate_hz)


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _no(label: str, school: str, why: str) -> Fix:
    return Fix(label=label, school=school, applies=False, why_not=why)


def _search(pair: Pair, make: Callable[[float], Session], deepest: float) -> float:
    """The smallest amount, between 0 and ``deepest`` (either sign), with which the kick is clear; ``deepest``
    where even that does not do. The clearness grows with the amount, so the interval is narrowed by secants.

    A long section is searched on an excerpt; where the whole then falls short, a little more is taken.
    """
    amount = _search_within(pair.excerpt, make, deepest)
    if pair.excerpt is pair:
        return amount
    for _ in range(2):
        short = _TARGET_DB - pair.clear_with(make(amount))
        if short <= _TARGET_DB - CLEAR_DB - 0.1 or amount == deepest:
            break
        more = amount * (1.0 + 0.2 * max(short, 0.5))
        amount = max(more, deepest) if deepest < 0.0 else min(more, deepest)
    return amount


def _search_within(pair: Pair, make: Callable[[float], Session], deepest: float) -> float:
    """``_search`` on what the pair's context covers."""
    low, low_clear = 0.0, pair.clear_db
    high, high_clear = deepest, pair.clear_with(make(deepest))
    if high_clear <= _TARGET_DB:
        return deepest
    amount = deepest
    for _ in range(6):
        share = (_TARGET_DB - low_clear) / max(high_clear - low_clear, 1e-9)
        amount = low + (high - low) * min(0.95, max(0.05, share))
        clear = pair.clear_with(make(amount))
        if CLEAR_DB + 0.1 <= clear <= CLEAR_DB + 0.6:
            return amount
        if clear < _TARGET_DB:
            low, low_clear = amount, clear
        else:
            high, high_clear = amount, clear
    return high


def _attack_end_ms(pair: Pair) -> float:
    """From the kick's onset to the first peak of its body, within 3 to 10 ms: where the bass may come in."""
    rate = pair.context.rate_hz
    body = band_limited(pair.context.stem(pair.kick_track.id), 25.0, 250.0, rate)
    width = round(0.025 * rate)
    times = [int(np.argmax(np.max(np.abs(body[:, at : at + width]), axis=0))) for at in pair.kick.onsets]
    return float(np.clip(1000.0 * float(np.median(times)) / rate, 3.0, 10.0))


def line_up(pair: Pair, *, for_timing: bool = False) -> Fix:
    """Move the bass so that it starts as the kick's attack ends."""
    label, school = "Line up the starts", "timing first"
    if not math.isfinite(pair.gap_ms):
        return _no(label, school, "no bass note starts near a kick, so there is nothing to line up")
    if EARLY_MS <= pair.gap_ms <= LATE_MS:
        return _no(label, school, f"they start together already ({_ms(pair.gap_ms)})")
    target_ms = _attack_end_ms(pair)
    nudge = round(pair.bass_track.nudge_ms + target_ms - pair.gap_ms, 2)
    if not -200.0 <= nudge <= 200.0:
        return _no(label, school, f"the bass would have to move by {_ms(nudge)}, more than 200 ms")
    session = change_strip(pair.context.session, pair.bass_track.id, nudge_ms=nudge)
    fix = _measured(
        pair, label, f"bass {_ms(target_ms - pair.gap_ms)}, to {target_ms:.1f} ms after the kick", school, session
    )
    gap = Reading(name="onset_gap_ms", label="Bass after kick", unit="ms", before=pair.gap_ms, after=target_ms)
    fix = replace(fix, readings=(*fix.readings, gap))
    # One word for both findings of a pair: what would bury the kick is not advised for the sake of time either.
    harms = pair.gap_ms > 0.0 and fix.gain["kick_clear_db"] <= 0.05
    if for_timing and not (harms and pair.clear_db + fix.gain["kick_clear_db"] < CLEAR_DB):
        return replace(fix, gain={"onset_gap_ms": target_ms - pair.gap_ms, **fix.gain})
    if harms:
        lost = _db(fix.gain["kick_clear_db"])
        return _no(label, school, f"the late bass is out of the kick's way; lined up, the kick would change by {lost}")
    return fix


def shape_onset(pair: Pair) -> Fix:
    """Let the bass speak more slowly: a longer attack, or softer onsets where the bass is audio."""
    label, school = "Shape the bass onset", "timing first"
    if not math.isfinite(pair.gap_ms):
        return _no(label, school, "the bass has no onset near the kick that could be shaped")
    shaped = _longer_attack(pair) if isinstance(pair.bass_track.source, InstrumentSource) else _softer_onset(pair)
    if isinstance(shaped, str):
        return _no(label, school, shaped)
    detail, session = shaped
    fix = _measured(pair, label, detail, school, session)
    if fix.gain["kick_clear_db"] <= 0.05:
        return _no(label, school, "the bass sounds through the kick; its onset is not what covers it")
    return fix


def _longer_attack(pair: Pair) -> tuple[str, Session] | str:
    """For an instrument: the envelopes' attack. Settings in words and the session, or why it cannot be."""
    session, bass = pair.context.session, pair.bass_track
    source = bass.source
    assert isinstance(source, InstrumentSource)
    first = max((layer.envelope.attack_ms for layer in source.layers if not layer.mute), default=0.0)
    if first >= _LONGEST_ATTACK_MS:
        return f"its attack is {first:.0f} ms already"

    def make(extra_ms: float) -> Session:
        def slower(layer: Layer) -> Layer:
            attack_ms = max(layer.envelope.attack_ms, first + extra_ms)
            return layer.replace(envelope=layer.envelope.replace(attack_ms=attack_ms))

        return change_strip(session, bass.id, source=source.replace(layers=tuple(map(slower, source.layers))))

    amount = round(_search(pair, make, _LONGEST_ATTACK_MS - first), 1)
    return f"attack {first:.0f} → {first + amount:.0f} ms", make(amount)


def _softer_onset(pair: Pair) -> tuple[str, Session]:
    """For audio: a device that makes its onsets softer."""
    session, bass = pair.context.session, pair.bass_track
    device = new_device(bass, "transient", label="Softer onset", split_ms=30.0)

    def make(attack_db: float) -> Session:
        softer = device.replace(params=device.params.replace(attack_db=attack_db))
        return insert_device(session, bass.id, softer)

    amount = round(_search(pair, make, _DEEPEST_ONSET_DB), 1)
    return f"onsets {_db(amount)} over 30 ms", make(amount)


def _seat_q(pair: Pair) -> float:
    """Q of the kick's own peak at its fundamental, within what a bell can do without ringing or thinning."""
    stem = pair.context.stem(pair.kick_track.id)
    return round(float(np.clip(peak_q(spectrum(stem, pair.context.rate_hz), pair.kick.fundamental_hz), 0.7, 1.4)), 2)


def carve(pair: Pair) -> Fix:
    """A bell in the bass at the kick's fundamental, as wide as the kick's peak."""
    q, hz = _seat_q(pair), round(pair.kick.fundamental_hz, 1)
    bass = pair.bass_track

    def device(gain_db: float) -> Device:
        band = {"shape": "bell", "freq_hz": hz, "gain_db": round(gain_db, 1), "q": q}
        return new_device(bass, "eq", label="Seat for the kick", bands=[band])

    def make(gain_db: float) -> Session:
        return insert_device(pair.context.session, bass.id, device(gain_db))

    amount = round(_search(pair, make, _DEEPEST_CARVE_DB), 1)
    detail = f"bell {_db(amount)} at {hz:.0f} Hz, Q {q:.1f}"
    return _useful(_measured(pair, "Carve a seat", detail, "carve", make(amount)))


def _key_level_db(pair: Pair, *, band: tuple[float, float] | None) -> float:
    """Median level of the key when 100 ms of a hit have passed, as the device's own detector reads it."""
    context = pair.context
    key = context.chain_out(pair.kick_track.id)
    if band is not None:
        key = SosStereo(bandpass_sos(*band, sample_rate_hz=context.rate_hz)).process(np.ascontiguousarray(key))
    level = Level("peak", attack_s=0.0, release_s=0.09, sample_rate_hz=context.rate_hz).process(
        np.ascontiguousarray(key)
    )
    ahead = round(0.100 * context.rate_hz)
    at = [min(len(level) - 1, onset + ahead) for onset in pair.kick.onsets]
    return float(gain_to_db(np.median(level[at])))


def dip(pair: Pair) -> Fix:
    """A bell that opens only while the kick speaks."""
    q, hz = _seat_q(pair), round(pair.kick.fundamental_hz, 1)
    bass, kick = pair.bass_track, pair.kick_track
    level = _key_level_db(pair, band=(hz, q))

    def make(range_db: float) -> Session:
        range_db = round(range_db, 1)
        # So that the whole depth is held for the 100 ms in which the kick has to be clear.
        threshold = round(float(np.clip(level + range_db, -60.0, 0.0)), 1)
        device = new_device(
            bass, "keyed_eq", label="Dip for the kick", key=KeyInput(track=kick.id), freq_hz=hz, q=q, range_db=range_db,
            threshold_db=threshold, attack_ms=1.0, release_ms=90.0,
        )  # fmt: skip
        return insert_device(pair.context.session, bass.id, device)

    label, school = "Dip only while the kick speaks", "carve"
    if _circular(make(-1.0)):
        return _no(label, school, f"{kick.name} listens to {bass.name} already; they cannot listen to each other")
    amount = round(_search(pair, make, _DEEPEST_DIP_DB), 1)
    session = make(amount)
    device_id = session.track(bass.id).chain[-1].id
    detail = f"keyed bell {_db(amount)} at {hz:.0f} Hz, 90 ms"
    return _useful(_measured(pair, label, detail, school, session, device_id=device_id))


def duck(pair: Pair) -> Fix:
    """The whole bass gives way, by a compressor that listens to the kick."""
    bass, kick = pair.bass_track, pair.kick_track
    level = _key_level_db(pair, band=None)
    ratio = 4.0

    def make(depth_db: float) -> Session:
        depth = round(-depth_db, 1)
        threshold = round(float(np.clip(level - depth / (1.0 - 1.0 / ratio), -60.0, 0.0)), 1)
        device = new_device(
            bass, "compressor", label="Duck under the kick", key=KeyInput(track=kick.id), threshold_db=threshold,
            ratio=ratio, knee_db=0.0, attack_ms=1.0, release_ms=110.0, range_db=depth,
        )  # fmt: skip
        return insert_device(pair.context.session, bass.id, device)

    label, school = "Duck the whole bass", "duck"
    if _circular(make(-1.0)):
        return _no(label, school, f"{kick.name} listens to {bass.name} already; they cannot listen to each other")
    amount = round(_search(pair, make, _DEEPEST_DUCK_DB), 1)
    session = make(amount)
    device_id = session.track(bass.id).chain[-1].id
    detail = f"{_db(amount)}, {ratio:.0f}:1, release 110 ms"
    return _useful(_measured(pair, label, detail, school, session, device_id=device_id))


def _useful(fix: Fix) -> Fix:
    if fix.gain["kick_clear_db"] <= 0.05:
        return _no(fix.label, fix.school or "", "measured, it does not make the kick any clearer")
    return fix


def _circular(session: Session) -> bool:
    try:
        compile_session(session)
    except LoopError:
        return True
    return False


# --- rungs for a buried click ------------------------------------------------------------------------------------


def click_fixes(context: Context, finding: Finding) -> tuple[Fix, ...]:
    """Later, softer, duller at its beginning, duller altogether: the least first."""
    pair = _pair_of(context, finding)
    bass = pair.bass_track

    def later(ms: float) -> Session:
        return change_strip(context.session, bass.id, nudge_ms=round(min(200.0, bass.nudge_ms + ms), 2))

    def softer(amount: float) -> Session:
        return insert_device(
            context.session, bass.id, new_device(bass, "transient", label="Softer onset", split_ms=15.0, attack_db=round(amount, 1))
        )  # fmt: skip

    def duller_onset(amount: float) -> Session:
        device = new_device(
            bass, "deesser", label="Duller onset", freq_hz=CLICK_HZ, range_db=round(amount, 1), threshold_db=_top_level_db(pair)
        )  # fmt: skip
        return insert_device(context.session, bass.id, device)

    def dip_above(amount: float) -> Session:
        band = {"shape": "high_shelf", "freq_hz": CLICK_HZ, "gain_db": round(amount, 1)}
        return insert_device(context.session, bass.id, new_device(bass, "eq", label="Room for the click", bands=[band]))

    return (
        _click_rung(pair, "Start later", "timing first", later, 30.0, lambda v: f"bass {_ms(v)}"),
        _click_rung(pair, "Soften the attack", "timing first", softer, -24.0, lambda v: f"onsets {_db(v)} over 15 ms"),
        _click_rung(pair, "Dull the onset only", "carve", duller_onset, -24.0, lambda v: f"above 1.5 kHz {_db(v)} as it begins"),
        _click_rung(pair, "Dip above 1.5 kHz", "carve", dip_above, -18.0, lambda v: f"shelf {_db(v)} from 1.5 kHz"),
    )  # fmt: skip


def _top_level_db(pair: Pair) -> float:
    """A threshold well under what the bass has above 1.5 kHz as it begins."""
    high = highpass_sos(CLICK_HZ, BUTTERWORTH_Q, sample_rate_hz=pair.context.rate_hz)
    top = np.max(
        np.abs(filtered(np.stack([high, high]), np.ascontiguousarray(pair.context.chain_out(pair.bass_track.id))))
    )
    return float(np.clip(gain_to_db(top) - 30.0, -60.0, 0.0))


def _click_rung(
    pair: Pair, label: str, school: str, make: Callable[[float], Session], deepest: float, detail: Callable[[float], str]
) -> Fix:  # fmt: skip
    """The smallest amount that lays the click open, or the most there is; refused where it does nothing."""
    context = pair.context

    def clear(amount: float) -> float:
        return pair.click_against(context.with_session(make(amount)).stem(pair.bass_track.id))

    low, high = 0.0, deepest
    if clear(deepest) >= CLICK_TARGET_DB:
        for _ in range(5):
            middle = 0.5 * (low + high)
            low, high = (low, middle) if clear(middle) >= CLICK_TARGET_DB else (middle, high)
    session = make(high)
    fix = _measured(pair, label, detail(high), school, session)
    after = clear(high)
    gain = after - pair.click_clear_db if math.isfinite(after) else math.nan
    if not gain > 0.5:
        return _no(label, school, "measured, it does not lay the click open")
    reading = Reading(
        name="click_clear_db", label="Click over the bass", unit="dB", before=pair.click_clear_db, after=after
    )
    return replace(fix, gain={"click_clear_db": gain, **fix.gain}, readings=(reading, *fix.readings))


def numbers(context: Context, tracks: tuple[str, ...], layers: tuple[str, ...] = ()) -> dict[str, float]:
    """What the fixes of both findings change, as it is in ``context``."""
    pair = measure_pair(context, *(context.session.track(t) for t in tracks))
    if pair is None:
        return {}
    keyed = [d.id for d in pair.bass_track.chain if d.key is not None]
    values = pair.evidence() | {
        "click_clear_db": pair.click_clear_db,
        "bass_lufs": integrated_lufs(pair.bass, context.rate_hz),
        "pumping_db": max((_pumping(context, pair.bass_track.id, i) for i in keyed), default=0.0),
    }
    return {name: value for name, value in values.items() if math.isfinite(value)}


rule("kick_bass_clash", find_clash, clash_fixes, numbers)
rule("kick_bass_timing", find_timing, timing_fixes, numbers)
rule("kick_click_buried", find_buried_click, click_fixes, numbers)
