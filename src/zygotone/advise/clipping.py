"""A track that clips: goes over full scale here, or came in with its tops cut off."""

from __future__ import annotations

import numpy as np

from zygotone.advise.findings import Context, Finding, Fix, rule, severity_of, sounds
from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.types import FloatArray
from zygotone.session.bench import Reading
from zygotone.session.edits import change_strip
from zygotone.session.models import ClipSource, Strip, Track

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


def _strips(context: Context) -> list[Strip]:
    return [*(t for t in context.session.tracks if not t.mute), context.session.mix]


def find(context: Context) -> list[Finding]:
    found = []
    for strip in _strips(context):
        stem = context.stem(strip.id)
        if not sounds(stem):
            continue
        peak_db = float(gain_to_db(np.max(np.abs(stem))))
        tops = 0
        if isinstance(strip, Track) and isinstance(strip.source, ClipSource):
            raw = context.renderer.take(
                context.graph, context.graph.raw[strip.id], context.span, cancelled=context.cancelled
            )
            tops = flat_tops(raw.audio)
        if peak_db <= 0.0 and not tops:
            continue
        over = peak_db > 0.0
        found.append(
            Finding(
                id=f"clips.{strip.id}.{context.section.id}",
                rule="clips",
                severity=max(0.34, severity_of(peak_db, 0.0, 6.0), severity_of(tops, 0, 50)),
                tracks=(strip.id,),
                section=context.section,
                stage="chains",
                sentence=f"{strip.name} goes {peak_db:.1f} dB over full scale"
                if over
                else f"{strip.name} came in with its tops cut off in {tops} places",
                advice="Turn it down before it leaves this bench."
                if over
                else "Nothing here can bring the tops back; export it again at a lower level.",
                evidence={"sample_peak_dbfs": peak_db, "flat_tops": float(tops)},
            )
        )
    return found


def fixes(context: Context, finding: Finding) -> tuple[Fix, ...]:
    strip = context.session.strip(finding.tracks[0])
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
    session = change_strip(context.session, strip.id, level_db=level)
    after_db = float(gain_to_db(np.max(np.abs(context.with_session(session).stem(strip.id)))))
    return (
        Fix(
            label="Turn it down",
            detail=f"level {step:+.1f} dB".replace("-", "−"),
            gain={"sample_peak_dbfs": after_db - peak_db},
            cost={"level_db": step},
            readings=(Reading(name="sample_peak_dbfs", label="Peak", unit="dBFS", before=peak_db, after=after_db),),
            session=session,
        ),
    )


def numbers(context: Context, tracks: tuple[str, ...], layers: tuple[str, ...] = ()) -> dict[str, float]:
    strip = context.session.strip(tracks[0])
    return {
        "sample_peak_dbfs": float(gain_to_db(np.max(np.abs(context.stem(strip.id))))),
        "level_db": strip.level_db,
    }


rule("clips", find, fixes, numbers)
