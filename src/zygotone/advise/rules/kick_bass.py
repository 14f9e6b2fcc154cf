"""Kick and bass: what is wrong between them, and the ladder of fixes, least harmful first."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from zygotone.advise.findings import RULES, Finding, Fix, Rule, Subject, reading_of, share_lost, weighed
from zygotone.advise.hearing import Hearing
from zygotone.advise.kick_and_bass import (
    Pair,
    in_db,
    in_ms,
    measure_pair,
    measured_fix,
    no_fix,
    pair_numbers,
    pair_of,
    pairs_of,
)
from zygotone.advise.schools import in_order
from zygotone.dsp.dynamics import Level
from zygotone.dsp.filters import SosStereo, bandpass_sos
from zygotone.dsp.levels import gain_to_db
from zygotone.engine.graph import compile_session
from zygotone.errors import LoopError
from zygotone.measure.dynamics import band_limited
from zygotone.measure.low_end import CLEAR_DB, kick_band
from zygotone.measure.spectrum import peak_q, spectrum
from zygotone.music.pitch import name_pitch
from zygotone.session.edits import change_strip, insert_device, new_device
from zygotone.session.models import Device, InstrumentSource, KeyInput, Layer, Session

# Starts closer than this are heard as one (common practice; the ear's own limit is near 2 ms).
EARLY_MS, LATE_MS = -1.5, 15.0
_TARGET_DB = CLEAR_DB + 0.25  # what the search aims at, so that the promise holds after rounding
_DEEPEST_CARVE_DB, _DEEPEST_DIP_DB, _DEEPEST_DUCK_DB, _DEEPEST_ONSET_DB = -9.0, -15.0, -15.0, -18.0
_LONGEST_ATTACK_MS = 60.0


def find_clash(hearing: Hearing, subject: Subject) -> list[Finding]:
    pair = measure_pair(hearing, *subject)
    if pair is None or not pair.clear_db < CLEAR_DB:
        return []
    kick_hz = pair.kick.fundamental_hz
    names = f"{pair.kick_track.name} and {pair.bass_track.name}"
    if pair.shared == "fundamental":
        sentence = f"{names} share {kick_hz:.1f} Hz ({name_pitch(kick_hz, a4_hz=hearing.session.song.a4_hz)})"
    elif pair.shared == "octave":
        sentence = f"{names} lie an octave apart, {kick_hz:.1f} and {pair.bass_hz:.1f} Hz, in one band"
    else:
        low, high = kick_band(kick_hz)
        sentence = f"{pair.bass_track.name} covers {pair.kick_track.name} between {low:.0f} and {high:.0f} Hz"
    return [
        Finding(
            id=f"kick-bass.{pair.kick_track.id}.{pair.bass_track.id}.{hearing.section.id}",
            rule="kick_bass_clash",
            severity=weighed(
                share_lost(CLEAR_DB - pair.clear_db, 0.0, 6.0), pair.kick_track.seat, 1.0 - pair.now.clear_share
            ),
            tracks=(pair.kick_track.id, pair.bass_track.id),
            section=hearing.section,
            stage="fit",
            sentence=sentence,
            advice=(
                f"Where both sound the kick is {in_db(pair.clear_db)} clear during its first 100 ms; +3 dB is clear, and "
                f"{100.0 * pair.now.clear_share:.0f} % of its hits are. The worst tenth lies under {in_db(pair.now.worst_db)}."
            ),
            evidence=pair.evidence(),
        )
    ]


def find_timing(hearing: Hearing, subject: Subject) -> list[Finding]:
    pair = measure_pair(hearing, *subject)
    if pair is None or not (pair.gap_ms < EARLY_MS or pair.gap_ms > LATE_MS):
        return []
    early = pair.gap_ms < 0.0
    sentence = (
        f"{pair.bass_track.name} starts {abs(pair.gap_ms):.1f} ms "
        f"{'before' if early else 'after'} {pair.kick_track.name}"
    )
    return [
        Finding(
            id=f"kick-bass-start.{pair.kick_track.id}.{pair.bass_track.id}.{hearing.section.id}",
            rule="kick_bass_timing",
            severity=weighed(share_lost(abs(pair.gap_ms), 0.0, 25.0), pair.kick_track.seat),
            tracks=(pair.kick_track.id, pair.bass_track.id),
            section=hearing.section,
            stage="fit",
            sentence=sentence,
            advice="It takes the kick's attack away." if early else "The low end speaks twice.",
            evidence=pair.evidence(),
        )
    ]


# --- the ladder --------------------------------------------------------------------------------------------------


def clash_fixes(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    return tuple(clash_fixes_one_by_one(hearing, finding))


def clash_fixes_one_by_one(hearing: Hearing, finding: Finding) -> Iterator[Fix]:
    pair = pair_of(hearing, finding)
    ways = (
        ("timing first", line_up),
        ("timing first", shape_onset),
        ("carve", carve),
        ("moving cut", dip),
        ("duck", duck),
    )
    yield from (rung(pair) for _, rung in in_order(hearing.session.schools, ways, lambda way: way[0]))


def timing_fixes(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    return (line_up(pair_of(hearing, finding), for_timing=True),)


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
    """``_search`` on what the pair's hearing covers."""
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
    rate = pair.hearing.rate_hz
    body = band_limited(pair.hearing.stem(pair.kick_track.id), 25.0, 250.0, rate)
    width = round(0.025 * rate)
    times = [int(np.argmax(np.max(np.abs(body[:, at : at + width]), axis=0))) for at in pair.kick.onsets]
    return float(np.clip(1000.0 * float(np.median(times)) / rate, 3.0, 10.0))


def line_up(pair: Pair, *, for_timing: bool = False) -> Fix:
    """Move the bass so that it starts as the kick's attack ends."""
    label, school = "Line up the starts", "timing first"
    if not math.isfinite(pair.gap_ms):
        return no_fix(label, school, "no bass note starts near a kick, so there is nothing to line up")
    if EARLY_MS <= pair.gap_ms <= LATE_MS:
        return no_fix(label, school, f"they start together already ({in_ms(pair.gap_ms)})")
    target_ms = _attack_end_ms(pair)
    nudge = round(pair.bass_track.nudge_ms + target_ms - pair.gap_ms, 2)
    if not -200.0 <= nudge <= 200.0:
        return no_fix(label, school, f"the bass would have to move by {in_ms(nudge)}, more than 200 ms")
    session = change_strip(pair.hearing.session, pair.bass_track.id, nudge_ms=nudge)
    fix = measured_fix(
        pair, label, f"bass {in_ms(target_ms - pair.gap_ms)}, to {target_ms:.1f} ms after the kick", school, session
    )
    gap = reading_of("onset_gap_ms", pair.gap_ms, target_ms)
    fix = replace(fix, readings=(*fix.readings, gap))
    # One word for both findings of a pair: what would bury the kick is not advised for the sake of time either.
    harms = pair.gap_ms > 0.0 and fix.gain["kick_clear_db"] <= 0.05
    if for_timing and not (harms and pair.clear_db + fix.gain["kick_clear_db"] < CLEAR_DB):
        return replace(fix, gain={"onset_gap_ms": target_ms - pair.gap_ms, **fix.gain})
    if harms:
        lost = in_db(fix.gain["kick_clear_db"])
        return no_fix(
            label, school, f"the late bass is out of the kick's way; lined up, the kick would change by {lost}"
        )
    return fix


def shape_onset(pair: Pair) -> Fix:
    """Let the bass speak more slowly: a longer attack, or softer onsets where the bass is audio."""
    label, school = "Shape the bass onset", "timing first"
    if not math.isfinite(pair.gap_ms):
        return no_fix(label, school, "the bass has no onset near the kick that could be shaped")
    shaped = _longer_attack(pair) if isinstance(pair.bass_track.source, InstrumentSource) else _softer_onset(pair)
    if isinstance(shaped, str):
        return no_fix(label, school, shaped)
    detail, session = shaped
    fix = measured_fix(pair, label, detail, school, session)
    if fix.gain["kick_clear_db"] <= 0.05:
        return no_fix(label, school, "the bass sounds through the kick; its onset is not what covers it")
    return fix


def _longer_attack(pair: Pair) -> tuple[str, Session] | str:
    """For an instrument: the envelopes' attack. Settings in words and the session, or why it cannot be."""
    session, bass = pair.hearing.session, pair.bass_track
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
    session, bass = pair.hearing.session, pair.bass_track
    device = new_device(bass, "transient", label="Softer onset", split_ms=30.0)

    def make(attack_db: float) -> Session:
        softer = device.replace(params=device.params.replace(attack_db=attack_db))
        return insert_device(session, bass.id, softer)

    amount = round(_search(pair, make, _DEEPEST_ONSET_DB), 1)
    return f"onsets {in_db(amount)} over 30 ms", make(amount)


def _seat_q(pair: Pair) -> float:
    """Q of the kick's own peak at its fundamental, within what a bell can do without ringing or thinning."""
    stem = pair.hearing.stem(pair.kick_track.id)
    return round(float(np.clip(peak_q(spectrum(stem, pair.hearing.rate_hz), pair.kick.fundamental_hz), 0.7, 1.4)), 2)


def carve(pair: Pair) -> Fix:
    """A bell in the bass at the kick's fundamental, as wide as the kick's peak."""
    q, hz = _seat_q(pair), round(pair.kick.fundamental_hz, 1)
    bass = pair.bass_track

    def device(gain_db: float) -> Device:
        band = {"shape": "bell", "freq_hz": hz, "gain_db": round(gain_db, 1), "q": q}
        return new_device(bass, "eq", label="Seat for the kick", bands=[band])

    def make(gain_db: float) -> Session:
        return insert_device(pair.hearing.session, bass.id, device(gain_db))

    amount = round(_search(pair, make, _DEEPEST_CARVE_DB), 1)
    detail = f"bell {in_db(amount)} at {hz:.0f} Hz, Q {q:.1f}"
    return _useful(replace(measured_fix(pair, "Carve a seat", detail, "carve", make(amount)), depth_db=amount))


def _key_level_db(pair: Pair, *, band: tuple[float, float] | None) -> float:
    """Median level of the key when 100 ms of a hit have passed, as the device's own detector reads it."""
    hearing = pair.hearing
    key = hearing.chain_out(pair.kick_track.id)
    if band is not None:
        key = SosStereo(bandpass_sos(*band, sample_rate_hz=hearing.rate_hz)).process(np.ascontiguousarray(key))
    level = Level("peak", attack_s=0.0, release_s=0.09, sample_rate_hz=hearing.rate_hz).process(
        np.ascontiguousarray(key)
    )
    ahead = round(0.100 * hearing.rate_hz)
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
        return insert_device(pair.hearing.session, bass.id, device)

    label, school = "Dip only while the kick speaks", "moving cut"
    if _circular(make(-1.0)):
        return no_fix(label, school, f"{kick.name} listens to {bass.name} already; they cannot listen to each other")
    amount = round(_search(pair, make, _DEEPEST_DIP_DB), 1)
    session = make(amount)
    device_id = session.track(bass.id).chain[-1].id
    detail = f"keyed bell {in_db(amount)} at {hz:.0f} Hz, 90 ms"
    return _useful(replace(measured_fix(pair, label, detail, school, session, device_id=device_id), depth_db=amount))


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
        return insert_device(pair.hearing.session, bass.id, device)

    label, school = "Duck the whole bass", "duck"
    if _circular(make(-1.0)):
        return no_fix(label, school, f"{kick.name} listens to {bass.name} already; they cannot listen to each other")
    amount = round(_search(pair, make, _DEEPEST_DUCK_DB), 1)
    session = make(amount)
    device_id = session.track(bass.id).chain[-1].id
    detail = f"{in_db(amount)}, {ratio:.0f}:1, release 110 ms"
    return _useful(replace(measured_fix(pair, label, detail, school, session, device_id=device_id), depth_db=amount))


def _useful(fix: Fix) -> Fix:
    if fix.gain["kick_clear_db"] <= 0.05:
        return no_fix(fix.label, fix.school or "", "measured, it does not make the kick any clearer")
    return fix


def _circular(session: Session) -> bool:
    try:
        compile_session(session)
    except LoopError:
        return True
    return False


RULES.enter(
    Rule(
        name="kick_bass_clash", title="Kick and bass in one place", over="pair",
        reads=("kick_clear_db", "kick_clear_share", "kick_clear_worst_db", "kick_hz", "bass_hz", "onset_gap_ms"),
        threshold=CLEAR_DB, source="common practice: 3 dB is clear", stage="fit", ladder=True, first=True,
        subjects=pairs_of, find=find_clash, fixes=clash_fixes,
        one_by_one=clash_fixes_one_by_one, numbers=pair_numbers,
    )
)  # fmt: skip
RULES.enter(
    Rule(
        name="kick_bass_timing", title="Kick and bass that start apart", over="pair",
        reads=("onset_gap_ms", "kick_clear_db"), threshold=LATE_MS, source="common practice; the ear's own limit is near 2 ms",
        stage="fit", ladder=True, first=True, subjects=pairs_of, find=find_timing, fixes=timing_fixes, numbers=pair_numbers,
    )
)  # fmt: skip
