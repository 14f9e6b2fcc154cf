"""A kick whose click is buried under the attack of the bass."""

from __future__ import annotations

import math
from collections.abc import Callable
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
from zygotone.dsp.filters import BUTTERWORTH_Q, filtered, highpass_sos
from zygotone.dsp.levels import gain_to_db
from zygotone.measure.low_end import CLICK_HZ
from zygotone.session.edits import change_strip, insert_device, new_device
from zygotone.session.models import Session

# A click that is so far under the bass's own attack is not heard through it; found from here on (common practice).
BURIED_DB, CLICK_TARGET_DB = -6.0, 0.0


def find_buried_click(hearing: Hearing, subject: Subject) -> list[Finding]:
    pair = measure_pair(hearing, *subject)
    clear = math.nan if pair is None else pair.click_clear_db
    if pair is None or not clear < BURIED_DB:
        return []
    bass, kick = pair.bass_track.name, pair.kick_track.name
    return [
        Finding(
            id=f"kick-click.{pair.kick_track.id}.{pair.bass_track.id}.{hearing.section.id}",
            rule="kick_click_buried",
            severity=weighed(share_lost(-clear, -BURIED_DB, 20.0), pair.kick_track.seat),
            tracks=(pair.kick_track.id, pair.bass_track.id),
            section=hearing.section,
            stage="fit",
            sentence=f"{bass}'s attack lies {-clear:.0f} dB over {kick}'s click above 1.5 kHz",
            advice="The click is what a kick is heard by on small speakers; as the notes begin together, it is buried.",
            evidence=pair.evidence() | {"click_clear_db": clear},
        )
    ]


def click_fixes(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    """Later, softer, duller at its beginning, duller altogether: the least first."""
    pair = pair_of(hearing, finding)
    bass = pair.bass_track

    def later(ms: float) -> Session:
        return change_strip(hearing.session, bass.id, nudge_ms=round(min(200.0, bass.nudge_ms + ms), 2))

    def softer(amount: float) -> Session:
        return insert_device(
            hearing.session, bass.id, new_device(bass, "transient", label="Softer onset", split_ms=15.0, attack_db=round(amount, 1))
        )  # fmt: skip

    def duller_onset(amount: float) -> Session:
        device = new_device(
            bass, "deesser", label="Duller onset", freq_hz=CLICK_HZ, range_db=round(amount, 1), threshold_db=_top_level_db(pair)
        )  # fmt: skip
        return insert_device(hearing.session, bass.id, device)

    def dip_above(amount: float) -> Session:
        band = {"shape": "high_shelf", "freq_hz": CLICK_HZ, "gain_db": round(amount, 1)}
        return insert_device(hearing.session, bass.id, new_device(bass, "eq", label="Room for the click", bands=[band]))

    return (
        _click_rung(pair, "Start later", "timing first", later, 30.0, lambda v: f"bass {in_ms(v)}"),
        _click_rung(pair, "Soften the attack", "timing first", softer, -24.0, lambda v: f"onsets {in_db(v)} over 15 ms"),
        _click_rung(pair, "Dull the onset only", "carve", duller_onset, -24.0, lambda v: f"above 1.5 kHz {in_db(v)} as it begins"),
        _click_rung(pair, "Dip above 1.5 kHz", "carve", dip_above, -18.0, lambda v: f"shelf {in_db(v)} from 1.5 kHz"),
    )  # fmt: skip


def _top_level_db(pair: Pair) -> float:
    """A threshold well under what the bass has above 1.5 kHz as it begins."""
    high = highpass_sos(CLICK_HZ, BUTTERWORTH_Q, sample_rate_hz=pair.hearing.rate_hz)
    top = np.max(
        np.abs(filtered(np.stack([high, high]), np.ascontiguousarray(pair.hearing.chain_out(pair.bass_track.id))))
    )
    return float(np.clip(gain_to_db(top) - 30.0, -60.0, 0.0))


def _click_rung(
    pair: Pair, label: str, school: str, make: Callable[[float], Session], deepest: float, detail: Callable[[float], str]
) -> Fix:  # fmt: skip
    """The smallest amount that lays the click open, or the most there is; refused where it does nothing."""
    hearing = pair.hearing

    def clear(amount: float) -> float:
        return pair.click_against(hearing.with_session(make(amount)).stem(pair.bass_track.id))

    low, high = 0.0, deepest
    if clear(deepest) >= CLICK_TARGET_DB:
        for _ in range(5):
            middle = 0.5 * (low + high)
            low, high = (low, middle) if clear(middle) >= CLICK_TARGET_DB else (middle, high)
    session = make(high)
    fix = measured_fix(pair, label, detail(high), school, session)
    after = clear(high)
    gain = after - pair.click_clear_db if math.isfinite(after) else math.nan
    if not gain > 0.5:
        return no_fix(label, school, "measured, it does not lay the click open")
    reading = reading_of("click_clear_db", pair.click_clear_db, after)
    return replace(fix, gain={"click_clear_db": gain, **fix.gain}, readings=(reading, *fix.readings))


RULES.enter(
    Rule(
        name="kick_click_buried", title="A kick's click under the bass", over="pair",
        reads=("click_clear_db", "kick_clear_db"), threshold=BURIED_DB, source="common practice", stage="fit", ladder=True, first=True,
        subjects=pairs_of, find=find_buried_click, fixes=click_fixes, numbers=pair_numbers,
    )
)  # fmt: skip
