"""Dynamics: attacks that a chain takes, limiters that never rest, crest outside what is usual, hits that jump, parts that vary, gates
that flutter."""

from __future__ import annotations

import math

import numpy as np

from zygotone.advise import rungs
from zygotone.advise.checks import Check, Measured, all_strips, enter, tracks_with, tracks_without
from zygotone.advise.findings import Finding, Subject
from zygotone.advise.hearing import Hearing
from zygotone.advise.ladder import Rung
from zygotone.advise.norms import DRUMS, USUAL
from zygotone.measure.dynamics import hits, peak_and_body_db
from zygotone.measure.levels import attack_over_body_db, chatter_per_s, hit_peaks_db, spread_lu
from zygotone.session.edits import change_device, insert_device, new_device
from zygotone.session.models import Device, Session, Strip


def _at_work(strip: Strip, work: str) -> list[Device]:
    return [d for d in strip.chain if d.on and d.spec.work == work]


def _sharper(hearing: Hearing, strip: Strip, *, most_db: float, split_ms: float) -> Rung:
    """Onsets louder again."""

    def made(amount: float) -> Session:
        device = new_device(strip, "transient", label="Attack back", attack_db=round(amount, 1), split_ms=split_ms)
        return insert_device(hearing.session, strip.id, device)

    return Rung(
        label="Bring the attack back",
        school="dynamics",
        make=made,
        deepest=most_db,
        detail=lambda a: f"{strip.name} onsets +{a:.1f} dB",
    )


# --- attack --------------------------------------------------------------------------------------------------------


def _pressed(session: Session) -> list[Subject]:
    return [
        (t.id,)
        for t in session.tracks
        if not t.mute and (_at_work(t, "compresses") or _at_work(t, "limits")) and t.role != "pad"
    ]


def _attack(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    graph, rate = hearing.graph, hearing.rate_hz
    key = "+".join((graph.raw[track.id].key, graph.chain[track.id].key))

    def work() -> tuple[float, float, int]:
        raw = hearing.raw(track.id)
        at = hits(raw, rate)
        return attack_over_body_db(raw, at, rate), attack_over_body_db(hearing.chain_out(track.id), at, rate), len(at)

    before, after, count = hearing.fact("attack over body", key, work)
    if count < 3 or not (math.isfinite(before) and math.isfinite(after)) or before < -6.0:  # it has no attack to lose
        return None
    lost = before - after
    return Measured(
        value=lost, sentence=f"The chain takes {lost:.1f} dB of the attack of {track.name}",
        advice="Its first 12 ms against what follows. Let the compressor wait for the attack, or blend some of the dry sound in.",
    )  # fmt: skip


def _attack_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    track = hearing.session.track(finding.tracks[0])
    made: list[Rung] = []
    for device in (*_at_work(track, "compresses"), *_at_work(track, "limits")):
        if "attack_ms" in device.params and device.params["attack_ms"] < 40.0:
            made.append(rungs.device_to(hearing, track, device.id, "attack_ms", 60.0, label="Slower attack", unit="ms"))

        def blended(amount: float, device: Device = device) -> Session:
            return change_device(hearing.session, track.id, device.id, mix=round(device.mix - amount, 2))

        made.append(
            Rung(
                label="Blend dry in", school="less is more", make=blended, deepest=max(0.1, device.mix - 0.3), digits=2,
                detail=lambda a, device=device: f"{device.title} {100 * (device.mix - a):.0f} % wet",  # type: ignore[misc]
            )
        )  # fmt: skip
        made.append(rungs.device_off(hearing, track, device.id))

    return [*made, _sharper(hearing, track, most_db=9.0, split_ms=12.0)]


enter(
    Check(
        name="attack_lost", title="An attack lost to compression", quantity="attack_lost_db", threshold=3.0, strong=10.0, target=2.0,
        source="common practice", stage="chains", subjects=_pressed, measure=_attack, rungs=_attack_rungs,
    )
)  # fmt: skip


# --- limiters ------------------------------------------------------------------------------------------------------


def _limited(session: Session) -> list[Subject]:
    return [(s.id,) for s in session.strips() if not s.mute and _at_work(s, "limits")]


def _limiting(hearing: Hearing, subject: Subject) -> Measured | None:
    strip = hearing.session.strip(subject[0])
    limiters = _at_work(strip, "limits")
    if not hearing.sounds(strip.id) or not limiters:
        return None
    _, after = hearing.graph.tap(strip.id, limiters[-1].id)

    def work() -> tuple[float, float]:
        gain = hearing.take(after).gain_db
        if gain is None or not len(gain):
            return 0.0, 0.0
        return float(np.mean(gain < -0.5)), float(gain.min())

    share, deepest = hearing.fact("limiting", after.key, work)
    return Measured(
        value=share,
        evidence={"deepest_db": deepest},
        sentence=f"{limiters[-1].title} on {strip.name} works {100 * share:.0f} % of the time, down to {deepest:.1f} dB".replace(
            "-", "−"
        ),
        advice="A limiter is for the odd peak. What it does all the time is better done by level.",
    )


def _limiting_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    strip = hearing.session.strip(finding.tracks[0])
    limiter = _at_work(strip, "limits")[-1]
    at = strip.chain.index(limiter)

    def softer(amount: float) -> Session:
        return insert_device(
            hearing.session, strip.id, new_device(strip, "gain", label="Less into it", gain_db=round(amount, 1)), at
        )

    made = [
        Rung(
            label="Less into it",
            school="less is more",
            make=softer,
            deepest=-15.0,
            detail=lambda a: f"{strip.name} {a:+.1f} dB before {limiter.title}".replace("-", "−"),
        )
    ]
    if "ceiling_dbtp" in limiter.params and limiter.params["ceiling_dbtp"] < -1.5:
        made.append(
            rungs.device_to(hearing, strip, limiter.id, "ceiling_dbtp", -1.0, label="Higher ceiling", unit="dBTP")
        )
    return made


enter(
    Check(
        name="limiter_always", title="A limiter that works all the time", quantity="reduced_share", threshold=0.35, strong=0.95, target=0.2,
        source="common practice", stage="chains", subjects=_limited, measure=_limiting, rungs=_limiting_rungs, reads=("deepest_db",),
    )
)  # fmt: skip


# --- crest ---------------------------------------------------------------------------------------------------------


def _crest(hearing: Hearing, track_id: str) -> float:
    return hearing.levels(track_id).crest_db


def _flat(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    crest, low = _crest(hearing, track.id), USUAL[track.role].crest_db[0]
    return Measured(
        value=low - crest,
        evidence={"crest_db": crest},
        sentence=f"{track.name} is flat: its peaks stand {crest:.1f} dB over its level; from {low:.0f} dB is usual for {track.role}",
        advice="It has been pressed until nothing moves. Less compression, or some of the dry sound.",
    )


def _flat_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    track = hearing.session.track(finding.tracks[0])
    made: list[Rung] = []
    for device in (*_at_work(track, "compresses"), *_at_work(track, "limits")):
        made.append(rungs.device_off(hearing, track, device.id))

    return [*made, _sharper(hearing, track, most_db=12.0, split_ms=20.0)]


enter(
    Check(
        name="too_flat", title="Pressed flat", quantity="flatness_db", threshold=0.5, strong=6.0, target=0.0, source="common practice",
        stage="chains", subjects=tracks_with(*USUAL), measure=_flat, rungs=_flat_rungs, reads=("crest_db",), least=0.2,
    )
)  # fmt: skip


def _spiky(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    crest, high = _crest(hearing, track.id), USUAL[track.role].crest_db[1]
    return Measured(
        value=crest - high,
        evidence={"crest_db": crest},
        sentence=f"{track.name} is all peaks: they stand {crest:.1f} dB over its level; to {high:.0f} dB is usual for {track.role}",
        advice="The meters see it before the ear does. Take its peaks down, and it can be louder.",
    )


def _press(
    hearing: Hearing,
    strip: Strip,
    *,
    label: str,
    ratio: float,
    attack_ms: float,
    release_ms: float,
    detector: str = "peak",
) -> Rung:
    peak, body = peak_and_body_db(hearing.chain_out(strip.id), hearing.rate_hz)

    def pressed(amount: float) -> Session:
        device = new_device(
            strip, "compressor", label=label, threshold_db=round(float(np.clip(peak - amount, -60.0, 0.0)), 1), ratio=ratio, knee_db=6.0,
            attack_ms=attack_ms, release_ms=release_ms, detector=detector,
        )  # fmt: skip
        return insert_device(hearing.session, strip.id, device)

    return Rung(
        label=label, school="dynamics", make=pressed, deepest=float(np.clip(peak - body + 6.0, 6.0, 36.0)),
        detail=lambda a: f"{strip.name}: {ratio:.0f}:1 from {peak - a:.0f} dB, attack {attack_ms:g} ms".replace("-", "−"),
    )  # fmt: skip


def _ceiling(hearing: Hearing, strip: Strip, label: str) -> Rung:
    peak, _ = peak_and_body_db(hearing.chain_out(strip.id), hearing.rate_hz)

    def limited(amount: float) -> Session:
        device = new_device(
            strip,
            "limiter",
            label=label,
            ceiling_dbtp=round(float(np.clip(peak - amount, -40.0, 0.0)), 1),
            release_ms=60.0,
        )
        return insert_device(hearing.session, strip.id, device)

    return Rung(
        label=label,
        school="dynamics",
        make=limited,
        deepest=15.0,
        detail=lambda a: f"{strip.name}: ceiling {peak - a:.1f} dBTP".replace("-", "−"),
    )


enter(
    Check(
        name="too_spiky", title="All peaks", quantity="spikes_db", threshold=0.5, strong=10.0, target=0.0, source="common practice",
        stage="chains", subjects=tracks_with(*USUAL), measure=_spiky, reads=("crest_db",), least=0.2,
        rungs=lambda hearing, finding: [
            _press(hearing, hearing.session.strip(finding.tracks[0]), label="Take the peaks down", ratio=4.0, attack_ms=1.0, release_ms=60.0),
            _ceiling(hearing, hearing.session.strip(finding.tracks[0]), "Hold the peaks"),
        ],
    )
)  # fmt: skip


# --- hits and parts ------------------------------------------------------------------------------------------------


def _jump(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    rate = hearing.rate_hz

    def work() -> tuple[float, float, int, int]:
        stem = hearing.stem(track.id)
        at = hearing.hits(track.id)
        if len(at) < 4:
            return math.nan, 0.0, 0, 0
        peaks = hit_peaks_db(stem, at, rate)
        # Against the hits around it too: the end of a roll that grows is no jump.
        top = int(np.argmax(peaks))
        around = np.delete(peaks[max(0, top - 3) : top + 4], min(3, top))
        usual = max(float(np.median(peaks)), float(np.median(around)))
        return float(peaks[top]) - usual, float(np.sum(peaks > usual + 3.0)), int(at[int(np.argmax(peaks))]), len(at)

    jump, count, at, total = hearing.fact("jump", hearing.graph.strip[track.id].key, work)
    if not math.isfinite(jump):
        return None
    bar = int(at / (hearing.session.song.bar_s * rate))
    return Measured(
        value=jump,
        bars=(bar, bar) if count <= 2 else None,
        long=max(0.2, min(1.0, 4.0 * count / max(1, total))),
        sentence=f"A hit of {track.name} makes the meters jump: {jump:.0f} dB over the usual one, bar {hearing.first_bar + bar}",
        advice="One hit decides how loud all the rest can be.",
    )


enter(
    Check(
        name="hit_jumps", title="A hit that makes the meters jump", quantity="jump_db", threshold=6.0, strong=18.0, target=4.0,
        source="common practice", stage="chains", subjects=tracks_with(*DRUMS), measure=_jump,
        rungs=lambda hearing, finding: [
            rungs.level(hearing, hearing.session.strip(finding.tracks[0]), finding.bars, most_db=-12.0)
            if finding.bars else Rung.refused("Turn it down", "level first", "the hits that jump are not in one bar"),
            _ceiling(hearing, hearing.session.strip(finding.tracks[0]), "Hold the hit"),
            _press(hearing, hearing.session.strip(finding.tracks[0]), label="Even the hits", ratio=6.0, attack_ms=0.5, release_ms=80.0),
        ],
    )
)  # fmt: skip


def _varies(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    spread = spread_lu(hearing.levels(track.id).loudness.steps_lufs)
    usual = USUAL[track.role].spread_lu
    return Measured(
        value=spread - usual,
        evidence={"spread_lu": spread},
        sentence=f"{track.name} varies by {spread:.0f} LU; for {track.role} up to {usual:.0f} LU is usual",
        advice="Its soft notes fall behind the others. Ride it, or even it out.",
    )


enter(
    Check(
        name="varies", title="A part that varies more than its role should", quantity="over_spread_lu", threshold=1.0, strong=12.0, target=0.5,
        source="common practice", stage="chains", subjects=tracks_without("effect", "other", *DRUMS), measure=_varies, reads=("spread_lu",), least=0.2,
        rungs=lambda hearing, finding: [
            _press(hearing, hearing.session.strip(finding.tracks[0]), label="Even it out", ratio=3.0, attack_ms=15.0, release_ms=200.0, detector="rms"),
            _press(hearing, hearing.session.strip(finding.tracks[0]), label="Even it out firmly", ratio=8.0, attack_ms=5.0, release_ms=150.0, detector="rms"),
        ],
    )
)  # fmt: skip


# --- gates ---------------------------------------------------------------------------------------------------------


def _gated(session: Session) -> list[Subject]:
    return [s for s in all_strips(session) if _at_work(session.strip(s[0]), "gates")]


def _chatter(hearing: Hearing, subject: Subject) -> Measured | None:
    strip = hearing.session.strip(subject[0])
    gates = _at_work(strip, "gates")
    if not gates or not hearing.sounds(strip.id):
        return None
    before, after = hearing.graph.tap(strip.id, gates[0].id)
    rate = hearing.rate_hz

    def work() -> float:
        gain = hearing.take(after).gain_db
        heard = after.inputs[1] if len(after.inputs) > 1 else before
        return 0.0 if gain is None else chatter_per_s(gain, hits(hearing.take(heard).audio, rate), rate)

    value = hearing.fact("chatter", after.key, work)
    return Measured(
        value=value, sentence=f"{gates[0].title} on {strip.name} flutters: it opens {value:.1f} times a second without a hit",
        advice="Its threshold lies where the sound dies away. Give it a wider band between opening and closing, or let it hold.",
    )  # fmt: skip


def _chatter_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    strip = hearing.session.strip(finding.tracks[0])
    gate = _at_work(strip, "gates")[0]
    made = []
    for name, to, label, unit in (
        ("hysteresis_db", 18.0, "Close later", "dB"),
        ("hold_ms", 250.0, "Hold longer", "ms"),
    ):
        if name in gate.params and gate.params[name] < to:
            made.append(rungs.device_to(hearing, strip, gate.id, name, to, label=label, unit=unit))
    if "threshold_db" in gate.params:
        made.append(
            rungs.device_to(
                hearing,
                strip,
                gate.id,
                "threshold_db",
                max(-80.0, gate.params["threshold_db"] - 15.0),
                label="Lower threshold",
                unit="dB",
            )
        )
    return made


enter(
    Check(
        name="gate_chatters", title="A gate that flutters", quantity="chatter_per_s", threshold=0.7, strong=6.0, target=0.2, source="common practice",
        stage="chains", subjects=_gated, measure=_chatter, rungs=_chatter_rungs,
    )
)  # fmt: skip
