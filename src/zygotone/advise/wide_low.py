"""Low end that is wide: it loses in mono, and no large loudspeaker can reproduce it as it was meant."""

from __future__ import annotations

import math

from zygotone.advise.findings import Context, Finding, Fix, rule, severity_of, sounds
from zygotone.measure.stereo import fold_down_loss_lu, side_share_below
from zygotone.session.bench import Reading
from zygotone.session.edits import insert_device, new_device
from zygotone.session.models import Track

# Common practice: below about 100 Hz a mix is mono, or as good as.
BELOW_HZ = 100.0
SLIGHT, STRONG = 0.05, 0.45
_LOW_ROLES = ("kick", "sub", "bass")


def _has_low_end(context: Context, track: Track) -> bool:
    return track.role in _LOW_ROLES and not track.mute and sounds(context.stem(track.id))


def find(context: Context) -> list[Finding]:
    found = []
    for track in context.session.tracks:
        if not _has_low_end(context, track):
            continue
        stem = context.stem(track.id)
        share = side_share_below(stem, BELOW_HZ, context.rate_hz)
        if not math.isfinite(share) or share <= SLIGHT:
            continue
        loss = fold_down_loss_lu(stem, context.rate_hz)
        evidence = {"side_share_low": share, "below_hz": BELOW_HZ}
        if math.isfinite(loss):
            evidence["fold_down_loss_lu"] = loss
        found.append(
            Finding(
                id=f"wide-low.{track.id}.{context.section.id}",
                rule="wide_low",
                severity=max(0.1, severity_of(share, SLIGHT, STRONG)),
                tracks=(track.id,),
                section=context.section,
                stage="chains",
                sentence=f"{track.name} is {100 * share:.0f} % wide below {BELOW_HZ:.0f} Hz",
                advice=f"In mono it loses {loss:.1f} dB. Make it mono down there; above, its width stays."
                if math.isfinite(loss)
                else "Make it mono down there; above, its width stays.",
                evidence=evidence,
            )
        )
    return found


def fixes(context: Context, finding: Finding) -> tuple[Fix, ...]:
    track = context.session.track(finding.tracks[0])
    device = new_device(track, "mono_low", freq_hz=BELOW_HZ * 1.2, label="Mono below")
    session = insert_device(context.session, track.id, device)
    before, after = context.stem(track.id), context.with_session(session).stem(track.id)
    rate = context.rate_hz
    shares = [side_share_below(stem, BELOW_HZ, rate) for stem in (before, after)]
    losses = [fold_down_loss_lu(stem, rate) for stem in (before, after)]
    gain = {"side_share_low": shares[1] - shares[0]}
    if all(map(math.isfinite, losses)):
        gain["fold_down_loss_lu"] = losses[1] - losses[0]
    return (
        Fix(
            label="Make the low end mono",
            detail=f"below {BELOW_HZ * 1.2:.0f} Hz",
            gain=gain,
            cost={},
            readings=(
                Reading(name="side_share_low", label="Side share below 100 Hz, 0 to 1", before=shares[0], after=shares[1]),
                Reading(name="fold_down_loss_lu", label="Lost in mono", unit="LU", before=_finite(losses[0]), after=_finite(losses[1])),
            ),
            session=session,
        ),
    )  # fmt: skip


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else None


def numbers(context: Context, tracks: tuple[str, ...], layers: tuple[str, ...] = ()) -> dict[str, float]:
    stem = context.stem(tracks[0])
    values = {
        "side_share_low": side_share_below(stem, BELOW_HZ, context.rate_hz),
        "fold_down_loss_lu": fold_down_loss_lu(stem, context.rate_hz),
    }
    return {name: value for name, value in values.items() if math.isfinite(value)}


rule("wide_low", find, fixes, numbers)
