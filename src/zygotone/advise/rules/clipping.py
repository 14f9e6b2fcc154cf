"""A track that clips: goes over full scale here, or came in with its tops cut off."""

from __future__ import annotations

import math

import numpy as np

from zygotone.advise.findings import RULES, Finding, Fix, Rule, Subject, reading_of, share_lost, weighed
from zygotone.advise.hearing import Hearing
from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.types import FloatArray
from zygotone.session.edits import change_strip
from zygotone.session.models import ClipSource, Session, Track

HEADROOM_DB = 1.0
_RUN = 3  # as many equal samples in a row at the very top are no accident


def flat_tops(audio: FloatArray) -> int:
    """How many places are cut off: runs of at least three equal samples at the largest magnitude."""
    count = 0
    for channel in audio:
        top = float(np.max(np.abs(channel), initial=0.0))
        if top < 0.05:
            continue
        at_top = np.abs(channel) >= top * (1.0 - 1e-6)
        edges = np.flatnonzero(np.diff(np.concatenate([[0], at_top.view(np.int8), [0]])))
        count = max(count, int(np.sum((edges[1::2] - edges[::2]) >= _RUN)))
    return count


def subjects(session: Session) -> list[Subject]:
    return [*((t.id,) for t in session.tracks if not t.mute), (session.mix.id,)]


def _peak_db(hearing: Hearing, strip_id: str) -> float:
    """-inf of what is silent."""
    return float(gain_to_db(hearing.levels(strip_id).peak)) if hearing.sounds(strip_id) else -math.inf


def find(hearing: Hearing, subject: Subject) -> list[Finding]:
    strip = hearing.session.strip(subject[0])
    peak_db = _peak_db(hearing, strip.id)
    if peak_db == -math.inf:
        return []
    tops = 0
    if isinstance(strip, Track) and isinstance(strip.source, ClipSource):
        tops = hearing.fact("flat tops", hearing.graph.raw[strip.id].key, lambda: flat_tops(hearing.raw(strip.id)))
    over = peak_db > 0.0
    if not over and not tops:
        return []
    return [
        Finding(
            id=f"clips.{strip.id}.{hearing.section.id}",
            rule="clips",
            # Whoever it is: what is cut off is heard in all of the mix.
            severity=weighed(max(0.34, share_lost(peak_db, 0.0, 6.0), share_lost(tops, 0, 50))),
            tracks=subject,
            section=hearing.section,
            stage="chains",
            sentence=f"{strip.name} goes {peak_db:.1f} dB over full scale"
            if over
            else f"{strip.name} came in with its tops cut off in {tops} places",
            advice="Turn it down before it leaves this bench."
            if over
            else "Nothing here can bring the tops back; export it again at a lower level.",
            evidence={"sample_peak_dbfs": peak_db, "flat_tops": float(tops)},
        )
    ]


def fixes(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    strip = hearing.session.strip(finding.tracks[0])
    peak_db = finding.evidence["sample_peak_dbfs"]
    if peak_db <= 0.0:
        return (
            Fix(
                label="Turn it down",
                applies=False,
                why_not="its level is fine; the tops were cut off before it came here",
            ),
        )
    step = -(peak_db + HEADROOM_DB)
    level = max(-60.0, strip.level_db + step)
    session = change_strip(hearing.session, strip.id, level_db=level)
    after_db = _peak_db(hearing.with_session(session), strip.id)
    return (
        Fix(
            label="Turn it down",
            detail=f"level {step:+.1f} dB".replace("-", "−"),
            gain={"sample_peak_dbfs": after_db - peak_db},
            cost={"level_db": step},
            readings=(reading_of("sample_peak_dbfs", peak_db, after_db),),
            session=session,
        ),
    )


def numbers(hearing: Hearing, tracks: Subject, layers: tuple[str, ...] = ()) -> dict[str, float]:
    strip = hearing.session.strip(tracks[0])
    return {"sample_peak_dbfs": _peak_db(hearing, strip.id), "level_db": strip.level_db}


RULES.enter(
    Rule(
        name="clips", title="What clips", over="track", reads=("sample_peak_dbfs", "flat_tops"), threshold=0.0,
        source="full scale; three equal samples at the very top are no accident (common practice)", stage="chains",
        subjects=subjects, find=find, fixes=fixes, numbers=numbers,
    )
)  # fmt: skip
