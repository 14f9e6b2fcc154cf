"""Tone: what sticks out of a track's own spectrum, tops that are too bright, sharp consonants, a ride's low part, lifted hiss."""

from __future__ import annotations

from zygotone.advise import rungs
from zygotone.advise.checks import Check, Measured, enter, tracks_with, tracks_without
from zygotone.advise.findings import Finding, Subject
from zygotone.advise.hearing import Hearing
from zygotone.advise.ladder import Rung
from zygotone.dsp.types import FloatArray
from zygotone.measure.dynamics import peak_and_body_db
from zygotone.measure.tone import Resonance, band_levels, quiet_and_loud_db, resonances, sibilance_db
from zygotone.music.pitch import name_pitch
from zygotone.session.edits import insert_device, new_device
from zygotone.session.models import Session

BOX_HZ, HARSH_HZ = (250.0, 900.0), (2000.0, 6000.0)


def _worst(hearing: Hearing, track: str, band: tuple[float, float]) -> Resonance | None:
    key, rate = hearing.graph.strip[track].key, hearing.rate_hz

    def levels() -> tuple[FloatArray, FloatArray]:
        low, high = 0.5 * BOX_HZ[0], min(2.0 * HARSH_HZ[1], 0.45 * rate)
        return band_levels(hearing.stem(track), rate, low_hz=low, high_hz=high)

    hz, over_time = hearing.fact("sixths of an octave over time", key, levels)
    found = hearing.fact(f"resonance {band[0]:.0f}", key, lambda: tuple(resonances(hz, over_time, *band)[:1]))
    return found[0] if found else None


def _sticks_out(name: str, title: str, quantity: str, band: tuple[float, float], word: str, advice: str) -> Check:
    def measure(hearing: Hearing, subject: Subject) -> Measured | None:
        track = hearing.session.track(subject[0])
        worst = _worst(hearing, track.id, band)
        if worst is None:
            return Measured(value=0.0)
        note = name_pitch(worst.hz, a4_hz=hearing.session.song.a4_hz)
        half = 2.0 ** (0.5 / worst.q)
        return Measured(
            value=worst.over_db, band_hz=(worst.hz / half, worst.hz * half), evidence={"at_hz": worst.hz},
            sentence=f"{track.name} sounds {word}: {rungs.in_hz(worst.hz)} ({note.note}) sticks out by {worst.over_db:.0f} dB whatever it plays",
            advice=advice,
        )  # fmt: skip

    def ladder(hearing: Hearing, finding: Finding) -> list[Rung]:
        track = hearing.session.track(finding.tracks[0])
        assert finding.band_hz is not None
        low, high = finding.band_hz
        return [
            rungs.carve(hearing, track, (low, high), label="Take the peak down", deepest_db=-15.0),
            rungs.carve(hearing, track, (low / 1.25, high * 1.25), label="Wider and gentler", deepest_db=-9.0),
            rungs.dip(hearing, track, track, (low, high)),
        ]

    return Check(
        name=name, title=title, quantity=quantity, threshold=6.0, strong=12.0, target=4.0,
        source="common practice; a bell of 12 dB on even material reads 6 to 7 dB, as the smoothed spectrum holds it too", stage="chains",
        subjects=tracks_without("kick", "sub", "bass", "hats", "percussion", "effect"), measure=measure, rungs=ladder, reads=("at_hz",),
    )  # fmt: skip


enter(
    _sticks_out(
        "boxy",
        "A boxy resonance",
        "boxy_db",
        BOX_HZ,
        "boxy",
        "A room, a box or a note of the instrument itself; a narrow dip takes it out.",
    )
)
enter(
    _sticks_out(
        "harsh", "A harsh resonance", "harsh_db", HARSH_HZ, "harsh", "The ear is keenest here; a narrow dip is enough."
    )
)


def _top(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    mix = hearing.session.mix.id
    if not hearing.sounds(track.id) or not hearing.sounds(mix):
        return None
    value = (
        hearing.band_db(track.id, 6000.0, 18000.0) + hearing.session.mix.level_db - hearing.band_db(mix, 1000.0, 4000.0)
    )
    return Measured(
        value=value, band_hz=(6000.0, 18000.0),
        sentence=f"{track.name} is too bright or loud for a pulse: above 6 kHz it has {'+' if value > 0 else '−'}{abs(value):.0f} dB against all of the mix's middle",
        advice="What only keeps time is to be felt at the edge, not in front.",
    )  # fmt: skip


def _top_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    track = hearing.session.track(finding.tracks[0])
    return [
        rungs.fader(hearing, track, -9.0), rungs.shelf(hearing, track, "high_shelf", 7000.0, -10.0, label="Darker"),
        rungs.cut(hearing, track, "high_cut", 11000.0, slope=12, label="High cut"),
    ]  # fmt: skip


enter(
    Check(
        name="top_too_bright", title="Hats and cymbals that are too bright", quantity="top_db", threshold=0.0, strong=12.0, target=-2.0,
        source="common practice", stage="chains", over="mix", subjects=tracks_with("hats", "percussion"), measure=_top, rungs=_top_rungs,
    )
)  # fmt: skip


def _sibilance(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    key = hearing.graph.strip[track.id].key
    value = hearing.fact("sibilance", key, lambda: sibilance_db(hearing.stem(track.id), hearing.rate_hz))
    return Measured(
        value=value,
        band_hz=(5000.0, 10000.0),
        sentence=f"{track.name} hisses: at its sharpest consonants 5–10 kHz lie {value:.0f} dB over 1–4 kHz",
        advice="They hurt at high levels, and each space and echo repeats them.",
    )


def _sibilance_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    track = hearing.session.track(finding.tracks[0])
    _, loud, _ = quiet_and_loud_db(hearing.chain_out(track.id), hearing.rate_hz, 5000.0)

    def tamed(amount: float) -> Session:
        device = new_device(
            track,
            "deesser",
            label="Softer consonants",
            freq_hz=5000.0,
            range_db=round(amount, 1),
            threshold_db=round(max(-60.0, loud - 14.0), 1),
        )
        return insert_device(hearing.session, track.id, device)

    return [
        Rung(label="Soften the consonants", school="moving cut", make=tamed, deepest=-18.0, detail=lambda a: f"{track.name} from 5 kHz, at most {a:.0f} dB".replace("-", "−")),
        rungs.shelf(hearing, track, "high_shelf", 6000.0, -10.0, label="Darker"),
    ]  # fmt: skip


enter(
    Check(
        name="sibilant", title="Sharp consonants", quantity="sibilance_db", threshold=6.0, strong=18.0, target=3.0, source="common practice",
        stage="chains", subjects=tracks_with("voice"), measure=_sibilance, rungs=_sibilance_rungs,
    )
)  # fmt: skip


def _ride(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    value = hearing.band_db(track.id, 20.0, 400.0) - hearing.band_db(track.id, 20.0, 20000.0)
    return Measured(
        value=value,
        band_hz=(20.0, 400.0),
        sentence=f"The low part of {track.name} shows: below 400 Hz it is {-value:.0f} dB under all of it",
        advice="A gong under the cymbal, or the drums that its microphone hears. It blurs what is there by right.",
    )


enter(
    Check(
        name="ride_low_part", title="A cymbal whose low part shows", quantity="low_share_db", threshold=-14.0, strong=-2.0, target=-20.0,
        source="common practice", stage="chains", subjects=tracks_with("hats"), measure=_ride,
        rungs=lambda hearing, finding: [
            rungs.shelf(hearing, hearing.session.track(finding.tracks[0]), "low_shelf", 450.0, -14.0, label="Less low part"),
            rungs.cut(hearing, hearing.session.track(finding.tracks[0]), "low_cut", 350.0, slope=24, label="Low cut"),
        ],
    )
)  # fmt: skip


def _lift(hearing: Hearing, subject: Subject) -> Measured | None:
    strip = hearing.session.strip(subject[0])
    graph = hearing.graph
    key = "+".join((graph.raw[strip.id].key, graph.chain[strip.id].key))

    def work() -> tuple[float, float]:
        before = quiet_and_loud_db(hearing.raw(strip.id), hearing.rate_hz, 5000.0)
        after = quiet_and_loud_db(hearing.chain_out(strip.id), hearing.rate_hz, 5000.0)
        if before[2] > 9.0:  # what is quiet there dies away, and is no hiss
            return 0.0, -140.0
        return (after[0] - before[0]) - (after[1] - before[1]), after[0]

    lift, floor = hearing.fact("hiss lift", key, work)
    if floor < -85.0:  # whatever it was lifted by, it is not heard
        return Measured(value=0.0)
    return Measured(
        value=lift,
        band_hz=(5000.0, 18000.0),
        sentence=f"The chain lifts the hiss of {strip.name} by {lift:.0f} dB against what is played",
        advice="A compressor turns up what is quiet. Clean it first, or press less.",
    )


def _lift_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    strip = hearing.session.strip(finding.tracks[0])
    quiet, loud, _ = quiet_and_loud_db(hearing.raw(strip.id), hearing.rate_hz, 5000.0)
    made = []
    for device in strip.chain:
        if device.on and device.spec.work == "compresses" and "ratio" in device.params and device.params["ratio"] > 1.5:
            made.append(rungs.device_to(hearing, strip, device.id, "ratio", 1.3, label="Press less", unit=":1"))
    # Half way between what hisses and what is played; the gate hears all of the sound, not the hiss alone.
    _, body = peak_and_body_db(hearing.raw(strip.id), hearing.rate_hz)
    threshold = float(min(-20.0, max(-75.0, body - max(12.0, 0.5 * (loud - quiet)))))
    made.append(
        rungs.put(hearing, strip, "gate", label="Close it in pauses", school="tone", words=f"{strip.name}, threshold {threshold:.0f} dB".replace("-", "−"), first=True,
                  threshold_db=round(threshold, 1), floor_db=-24.0, hold_ms=120.0, release_ms=200.0)
    )  # fmt: skip
    return made


def _pressed(session: Session) -> list[Subject]:
    return [
        (t.id,) for t in session.tracks if not t.mute and any(d.on and d.spec.work == "compresses" for d in t.chain)
    ]


enter(
    Check(
        name="hiss_lifted", title="Hiss that a compressor lifts", quantity="hiss_lift_db", threshold=6.0, strong=20.0, target=4.0,
        source="common practice", stage="chains", subjects=_pressed, measure=_lift, rungs=_lift_rungs,
    )
)  # fmt: skip
