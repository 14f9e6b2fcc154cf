"""Low end that is wide: it loses in mono, and no large loudspeaker can reproduce it as it was meant."""

from __future__ import annotations

from zygotone.advise.findings import RULES, Finding, Fix, Rule, Subject, finite, reading_of, share_lost, weighed
from zygotone.advise.hearing import Hearing
from zygotone.measure.stereo import side_share_below
from zygotone.session.edits import insert_device, new_device
from zygotone.session.models import Session

# Common practice: below about 100 Hz a mix is mono, or as good as.
BELOW_HZ = 100.0
SLIGHT, STRONG = 0.05, 0.45
_LOW_ROLES = ("kick", "sub", "bass")


def subjects(session: Session) -> list[Subject]:
    return [(t.id,) for t in session.tracks if t.role in _LOW_ROLES and not t.mute]


def numbers(hearing: Hearing, tracks: Subject, layers: tuple[str, ...] = ()) -> dict[str, float]:
    def work() -> dict[str, float]:
        stem = hearing.stem(tracks[0])
        return {
            "side_share_low": side_share_below(stem, BELOW_HZ, hearing.rate_hz),
            "fold_down_loss_lu": hearing.levels(tracks[0]).loudness.fold_down_loss_lu,
        }

    return finite(hearing.fact("wide low", hearing.graph.strip[tracks[0]].key, work))


def find(hearing: Hearing, subject: Subject) -> list[Finding]:
    track = hearing.session.track(subject[0])
    if not hearing.sounds(track.id):
        return []
    measured = numbers(hearing, subject)
    share, loss = measured.get("side_share_low", 0.0), measured.get("fold_down_loss_lu")
    if share <= SLIGHT:
        return []
    return [
        Finding(
            id=f"wide-low.{track.id}.{hearing.section.id}",
            rule="wide_low",
            severity=weighed(share_lost(share, SLIGHT, STRONG), track.seat),
            tracks=subject,
            section=hearing.section,
            stage="chains",
            sentence=f"{track.name} is {100 * share:.0f} % wide below {BELOW_HZ:.0f} Hz",
            advice=("" if loss is None else f"In mono it loses {loss:.1f} dB. ")
            + "Make it mono down there; above, its width stays.",
            evidence={"side_share_low": share, "below_hz": BELOW_HZ, **({} if loss is None else {"fold_down_loss_lu": loss})},
        )
    ]  # fmt: skip


def fixes(hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
    track = hearing.session.track(finding.tracks[0])
    device = new_device(track, "mono_low", freq_hz=BELOW_HZ * 1.2, label="Mono below")
    session = insert_device(hearing.session, track.id, device)
    before, after = (numbers(h, finding.tracks) for h in (hearing, hearing.with_session(session)))
    return (
        Fix(
            label="Make the low end mono",
            detail=f"below {BELOW_HZ * 1.2:.0f} Hz",
            gain={name: after[name] - before[name] for name in before if name in after},
            readings=tuple(reading_of(name, before.get(name), after.get(name)) for name in ("side_share_low", "fold_down_loss_lu")),
            session=session,
        ),
    )  # fmt: skip


RULES.enter(
    Rule(
        name="wide_low", title="Low end that is wide", over="track", reads=("side_share_low", "fold_down_loss_lu"),
        threshold=SLIGHT, source="common practice: below about 100 Hz a mix is mono, or as good as", stage="chains",
        subjects=subjects, find=find, fixes=fixes, numbers=numbers,
    )
)  # fmt: skip
