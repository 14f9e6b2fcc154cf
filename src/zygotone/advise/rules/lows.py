"""The low end besides kick and bass: who owns the sub, whether notes can be told apart, rumble and what it costs, low chord notes."""

from __future__ import annotations

import math

import numpy as np

from zygotone.advise import rungs
from zygotone.advise.checks import Check, Measured, enter, tracks_with, tracks_without
from zygotone.advise.findings import Finding, Subject
from zygotone.advise.hearing import Hearing
from zygotone.advise.ladder import Rung
from zygotone.advise.norms import CHORDS
from zygotone.devices import make_processor
from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.types import OFFLINE_BLOCK_FRAMES, FloatArray
from zygotone.engine.chains import chain_blocks
from zygotone.measure.dynamics import band_limited
from zygotone.measure.pitch import agree, bass_note_pitches, kick_fall_cents, kick_fundamental_hz, note_pitches
from zygotone.measure.spectrum import spectrum
from zygotone.music.keys import nearest_in_key
from zygotone.music.pitch import name_pitch
from zygotone.session.audio_files import resample
from zygotone.session.edits import insert_device, new_device
from zygotone.session.models import LOW_ROLES, ClipSource, Device, InstrumentSource, Session, Track

# Where a track's lowest note lies when neither its notes nor its sound tell (common practice).
_USUAL_LOWEST_HZ = {
    "guitar": 82.0,
    "keys": 65.0,
    "pad": 65.0,
    "voice": 82.0,
    "lead": 130.0,
    "snare": 150.0,
    "hats": 300.0,
    "percussion": 100.0,
}
_UNPITCHED = ("kick", "snare", "hats", "percussion")
SUB_HZ = (30.0, 80.0)
_LOW_RATE_HZ = 4000


def lowest_hz(hearing: Hearing, track: Track) -> float:
    """The lowest note that a track plays in the section: from its notes, else from its sound, else from its role."""

    def work() -> float:
        source = track.source
        if isinstance(source, InstrumentSource) and track.role not in _UNPITCHED:
            phrases = {f.id: f for f in source.phrases}
            transposed = [layer.transpose_semitones for layer in source.layers if not layer.mute] or [0]
            pitches = [
                n.pitch + p.transpose_semitones + min(transposed)
                for p in track.parts if p.section in (None, hearing.section.id) and p.phrase in phrases for n in phrases[p.phrase].notes
            ]  # fmt: skip
            if pitches:
                return float(hearing.session.song.a4_hz) * math.pow(2.0, (min(pitches) - 69) / 12.0)
        usual = _USUAL_LOWEST_HZ.get(track.role, 40.0)
        if track.role in _UNPITCHED:
            return usual
        found = [hz for hz, _ in note_pitches(hearing.stem(track.id), hearing.rate_hz) if math.isfinite(hz)]
        return float(np.quantile(found, 0.1)) if found else usual

    key = "+".join((hearing.graph.strip[track.id].key, track.role, track.source.digest))
    return hearing.fact("lowest note", key, work)


# --- rumble --------------------------------------------------------------------------------------------------------


def _rumble(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    lowest = lowest_hz(hearing, track)
    if not math.isfinite(lowest) or lowest < 30.0:
        return None
    top = lowest / 1.5
    value = hearing.band_db(track.id, 5.0, top) - hearing.band_db(track.id, 5.0, 20000.0)
    return Measured(
        value=value, band_hz=(10.0, top), evidence={"lowest_hz": lowest},
        sentence=f"{track.name} rumbles below its lowest note, {lowest:.0f} Hz",
        advice=f"{-value:.0f} dB under the whole of it; nobody hears it as music, and what comes behind has to carry it.",
    )  # fmt: skip


def _rumble_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    track = hearing.session.track(finding.tracks[0])
    hz = finding.evidence["lowest_hz"] / 1.3
    return [
        rungs.cut(hearing, track, "low_cut", hz, slope=12, label="Gentle low cut", first=True),
        rungs.cut(hearing, track, "low_cut", hz, slope=24, label="Low cut", first=True),
        rungs.cut(hearing, track, "low_cut", hz, slope=48, label="Steep low cut", first=True),
    ]


enter(
    Check(
        name="rumble", title="Rumble under the lowest note", quantity="rumble_db", threshold=-20.0, strong=-3.0, target=-24.0,
        source="common practice", stage="chains", subjects=tracks_without("kick", "sub", "bass", "effect", "snare"), measure=_rumble,
        rungs=_rumble_rungs, reads=("lowest_hz",),
    )
)  # fmt: skip


def _compressors(session: Session) -> list[Subject]:
    return [
        (s.id,) for s in session.strips()
        if not s.mute and any(d.on and d.key is None and d.spec.work == "compresses" for d in s.chain)
    ]  # fmt: skip


_COUNTS = 0.03  # share of the power that must lie under the lowest note


def _rumble_cost(hearing: Hearing, subject: Subject) -> Measured | None:
    strip = hearing.session.strip(subject[0])
    path = next((d.id for d in strip.chain if d.on and d.key is None and d.spec.work == "compresses"), None)
    if path is None:
        return None
    before, after = hearing.graph.tap(strip.id, path)
    low = lowest_hz(hearing, strip) if isinstance(strip, Track) else 40.0
    if not math.isfinite(low):
        return None
    top = max(20.0, low / 1.8)

    def work() -> float:
        audio = hearing.take(before).audio
        gain = hearing.take(after).gain_db
        if gain is None or not audio.any():
            return 0.0
        heard = spectrum(audio, hearing.rate_hz)
        if heard.band_power(5.0, top) < _COUNTS * heard.band_power(5.0, 20000.0):  # too little to move a gain by a dB
            return 0.0
        band = {"shape": "low_cut", "freq_hz": top, "slope_db_oct": 48}
        without = [Device.model_validate({"id": "cut", "kind": "eq", "bands": [band]})]
        host = hearing.renderer.host(hearing.session)
        processor, less_db = make_processor(strip.device(path), host), 0.0
        frames: int = audio.shape[1]
        starts = range(0, frames, OFFLINE_BLOCK_FRAMES)
        blocks = ((np.ascontiguousarray(audio[:, at : at + OFFLINE_BLOCK_FRAMES]), None) for at in starts)
        for clean in chain_blocks(blocks, without, host, max_tail_s=0.0):
            give_up_if_unwanted()
            processor.process(np.ascontiguousarray(clean), None)
            if processor.gain_db is None:
                return 0.0
            less_db += float(np.sum(np.minimum(0.0, processor.gain_db)))
        return less_db / frames - float(np.mean(np.minimum(0.0, gain)))

    value = hearing.fact("rumble cost", "+".join((after.key, f"{top:.1f}")), work)
    title = strip.device(path).title
    return Measured(
        value=value, band_hz=(10.0, top), evidence={"lowest_hz": low},
        sentence=f"What lies below {top:.0f} Hz makes {title} on {strip.name} turn down by {value:.1f} dB more",
        advice="It hears what nobody else hears. Cut it off before the compressor, or from its ears.",
    )  # fmt: skip


def _rumble_cost_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    strip = hearing.session.strip(finding.tracks[0])
    assert finding.band_hz is not None
    path, device = next((d.id, d) for d in strip.chain if d.on and d.key is None and d.spec.work == "compresses")
    made = [
        rungs.cut(hearing, strip, "low_cut", finding.band_hz[1] * 1.15, slope=24, label="Low cut before it", first=True)
    ]
    if "key_low_cut_hz" in device.params:
        to = max(20.0, finding.band_hz[1] * 1.5)
        made.append(
            rungs.device_to(
                hearing, strip, path, "key_low_cut_hz", to, label="Off its ears", unit="Hz", digits=0, whole=True
            )
        )
    return made


enter(
    Check(
        name="rumble_pumps", title="A rumble that drives a compressor", quantity="rumble_cost_db", threshold=1.2, strong=5.0, target=0.3,
        source="common practice", stage="chains", subjects=_compressors, measure=_rumble_cost, rungs=_rumble_cost_rungs, reads=("lowest_hz",),
    )
)  # fmt: skip


# --- bass ----------------------------------------------------------------------------------------------------------


def _sub_pairs(session: Session) -> list[Subject]:
    lows = [t for t in session.tracks if t.role in LOW_ROLES and not t.mute]
    return [(a.id, b.id) for i, a in enumerate(lows) for b in lows[i + 1 :]]


def _sub_powers(hearing: Hearing, track_id: str) -> FloatArray:
    """Of the sub band of a stem in each 100 ms."""

    def work() -> FloatArray:
        # The band lies far below: a lower rate gives the same in a tenth of the time.
        low = band_limited(resample(hearing.stem(track_id), hearing.rate_hz, _LOW_RATE_HZ), *SUB_HZ, _LOW_RATE_HZ)
        width = _LOW_RATE_HZ // 10
        n = low.shape[1] // width
        return np.asarray(np.mean(low[:, : n * width].reshape(2, n, width) ** 2, axis=(0, 2)))

    return hearing.fact("sub powers", hearing.graph.strip[track_id].key, work)


def _two_subs(hearing: Hearing, subject: Subject) -> Measured | None:
    powers = [_sub_powers(hearing, t) for t in subject]
    loud = [x > 0.03 * x.max(initial=0.0) for x in powers]
    both = loud[0] & loud[1]
    share = float(both.mean())
    if share < 0.1:
        return Measured(value=60.0)
    # How far the quieter is under the louder while both sound.
    sums = sorted(float(x[both].sum()) for x in powers)
    gap = 10.0 * math.log10((sums[1] + 1e-15) / (sums[0] + 1e-15))
    first, second = sorted((hearing.session.track(t) for t in subject), key=lambda t: t.seat)
    return Measured(
        value=gap, tracks=(first.id, second.id), band_hz=SUB_HZ, long=min(1.0, 2.0 * share),
        sentence=f"{first.name} and {second.name} both own the sub",
        advice=f"Below 80 Hz they are {gap:.0f} dB apart while both sound. One of them is to have it: {first.name}, by its seat.",
    )  # fmt: skip


def _two_subs_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    second = hearing.session.track(finding.tracks[1])
    return [
        rungs.shelf(hearing, second, "low_shelf", 85.0, -14.0, label="Leave it the floor"),
        rungs.cut(hearing, second, "low_cut", 85.0, slope=24, label="Low cut"),
        rungs.dip(hearing, second, hearing.session.track(finding.tracks[0]), SUB_HZ),
        rungs.octave(hearing, second, 1),
    ]


enter(
    Check(
        name="sub_shared", title="Two tracks own the sub", quantity="sub_gap_db", threshold=8.0, strong=0.0, target=10.0,
        source="common practice", stage="fit", over="pair", subjects=_sub_pairs, measure=_two_subs, rungs=_two_subs_rungs,
    )
)  # fmt: skip


def _definition(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    low, middle = hearing.band_db(track.id, 40.0, 80.0), hearing.band_db(track.id, 80.0, 250.0)
    if low < hearing.band_db(track.id, 20.0, 20000.0) - 12.0:  # it does not live down there
        return None
    value = middle - low
    return Measured(
        value=value, band_hz=(80.0, 250.0),
        sentence=f"The notes of {track.name} cannot be told apart: 80 to 250 Hz lie {-value:.0f} dB under 40 to 80 Hz",
        advice="On small speakers, and beside a kick, a bass is heard by its second and third partials.",
    )  # fmt: skip


def _definition_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    track = hearing.session.track(finding.tracks[0])

    def bent(amount: float) -> Session:
        device = new_device(track, "saturation", label="Partials", curve="tube", drive_db=round(amount, 1), bias=0.3)
        return insert_device(hearing.session, track.id, device)

    warmer = Rung(
        label="Add partials",
        school="tone",
        make=bent,
        deepest=24.0,
        detail=lambda a: f"{track.name}: tube, drive {a:.0f} dB",
    )
    return [
        rungs.carve(hearing, track, (90.0, 220.0), label="Lift where notes are", deepest_db=6.0), warmer,
        rungs.shelf(hearing, track, "low_shelf", 70.0, -8.0, label="Less floor"), rungs.octave(hearing, track, 1),
    ]  # fmt: skip


enter(
    Check(
        name="bass_indistinct", title="A bass whose notes cannot be told apart", quantity="definition_db", threshold=-14.0, strong=-36.0,
        target=-12.0, source="common practice", stage="chains", subjects=tracks_with("bass"), measure=_definition, rungs=_definition_rungs,
    )
)  # fmt: skip


def _too_low(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    if isinstance(track.source, InstrumentSource):
        hz = lowest_hz(hearing, track)
    else:
        key = hearing.graph.strip[track.id].key
        hz = hearing.fact("bass pitch", key, lambda: agree(bass_note_pitches(hearing.stem(track.id), hearing.rate_hz)))
        below = hearing.band_db(track.id, 10.0, 25.0)
        if below > hearing.band_db(track.id, 25.0, 400.0) - 6.0:  # the pitch finder looks from 25 Hz up
            low = hearing.spectrum(track.id)
            few = (low.freqs_hz >= 10.0) & (low.freqs_hz < 25.0)
            hz = float(low.freqs_hz[few][int(np.argmax(low.power[few]))])
    if not math.isfinite(hz):
        return None
    return Measured(
        value=hz, sentence=f"{track.name} goes down to {hz:.1f} Hz", evidence={},
        advice="Hardly a speaker gives that back, and it takes the room of all else.",
    )  # fmt: skip


enter(
    Check(
        name="bass_too_low", title="A bass below 25 Hz", quantity="lowest_hz", threshold=25.0, strong=16.0, target=25.0,
        source="loudspeakers of studios reach to about 30 Hz (common practice)", stage="fit", subjects=tracks_with(*LOW_ROLES), measure=_too_low,
        rungs=lambda hearing, finding: [rungs.octave(hearing, hearing.session.track(finding.tracks[0]), 1), _octave_of_audio(hearing, finding)],
    )
)  # fmt: skip


def _octave_of_audio(hearing: Hearing, finding: Finding) -> Rung:
    track = hearing.session.track(finding.tracks[0])
    if isinstance(track.source, InstrumentSource):
        return Rung.refused("Shift it up", "pitch", "its notes can be moved themselves")
    return rungs.put(
        hearing,
        track,
        "pitch",
        label="Octave up",
        school="pitch",
        words=f"{track.name} +12 semitones",
        first=True,
        semitones=12,
    )


def _chords_and_bass(session: Session) -> list[Subject]:
    chords = [t for t in session.tracks if t.role in CHORDS and not t.mute]
    return [(c.id, b.id) for c in chords for b in session.tracks if b.role in LOW_ROLES and not b.mute]


def _low_part(hearing: Hearing, subject: Subject) -> Measured | None:
    chord, bass = (hearing.session.track(t) for t in subject)
    if not (hearing.sounds(chord.id) and hearing.sounds(bass.id)):
        return None
    value = hearing.band_db(chord.id, 30.0, 150.0) - hearing.band_db(bass.id, 30.0, 150.0)
    return Measured(
        value=value, band_hz=(30.0, 150.0),
        sentence=f"{chord.name} reaches down to {bass.name}: below 150 Hz it is only {-value:.0f} dB under it"
        if value < 0 else f"{chord.name} is {value:.0f} dB over {bass.name} below 150 Hz",
        advice="Low chord notes blur the bass; what the bass has, the chord need not play.",
    )  # fmt: skip


def _low_part_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    chord = hearing.session.track(finding.tracks[0])
    return [
        rungs.higher_inversion(hearing, chord, 150.0), rungs.octave(hearing, chord, 1),
        rungs.cut(hearing, chord, "low_cut", 150.0, slope=24, label="Low cut"), rungs.shelf(hearing, chord, "low_shelf", 180.0, -12.0, label="Less low end"),
    ]  # fmt: skip


enter(
    Check(
        name="chords_under_bass", title="Chords that reach down to the bass", quantity="low_part_db", threshold=-9.0, strong=6.0, target=-11.0,
        source="common practice", stage="fit", over="pair", subjects=_chords_and_bass, measure=_low_part, rungs=_low_part_rungs,
    )
)  # fmt: skip


# --- the kick's key ------------------------------------------------------------------------------------------------


def _kicks(session: Session) -> list[Subject]:
    """Recorded ones; of those that are synthesized the layer's own rule speaks. Only where a key was chosen."""
    if session.song.parsed_key is None:
        return []
    return [(t.id,) for t in session.tracks if t.role == "kick" and not t.mute and isinstance(t.source, ClipSource)]


# A kick whose pitch falls further than this while its body sounds rings at no note that could be off (common practice).
_FALLS_CENTS = 100.0


def _kick_off_key(hearing: Hearing, subject: Subject) -> Measured | None:
    track, key = hearing.session.track(subject[0]), hearing.session.song.parsed_key
    if key is None or not hearing.sounds(track.id):
        return None
    stem, rate = hearing.stem(track.id), hearing.rate_hz
    hz = hearing.fact(
        "kick pitch", hearing.graph.strip[track.id].key, lambda: kick_fundamental_hz(stem, rate, hearing.hits(track.id))
    )
    fall = hearing.fact(
        "kick fall", hearing.graph.strip[track.id].key, lambda: kick_fall_cents(stem, rate, hearing.hits(track.id))
    )
    if not math.isfinite(hz) or fall > _FALLS_CENTS:
        return None
    a4 = hearing.session.song.a4_hz
    wanted = nearest_in_key(hz, key, a4_hz=a4)
    cents = 1200.0 * math.log2(hz / wanted)
    return Measured(
        value=abs(cents), evidence={"fundamental_hz": hz, "wanted_hz": wanted},
        sentence=f"{track.name} rings at {name_pitch(hz, a4_hz=a4)}, {abs(cents):.0f} cents from {name_pitch(wanted, a4_hz=a4)}",
        advice=f"In {hearing.session.song.key} it rubs against the bass.",
    )  # fmt: skip


def _kick_key_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    track = hearing.session.track(finding.tracks[0])
    cents = 1200.0 * math.log2(finding.evidence["wanted_hz"] / finding.evidence["fundamental_hz"])
    whole = round(cents / 100.0)
    return [
        rungs.put(
            hearing, track, "pitch", label="Tune it", school="pitch", first=True, semitones=whole, cents=round(cents - 100.0 * whole, 1),
            formants="move", words=f"{track.name} {cents:+.0f} cents".replace("-", "−"),
        )
    ]  # fmt: skip


enter(
    Check(
        name="kick_off_key", title="A kick off the key", quantity="cents_off", threshold=35.0, strong=250.0, target=15.0, source="common practice",
        stage="chains", subjects=_kicks, measure=_kick_off_key, rungs=_kick_key_rungs, reads=("fundamental_hz", "wanted_hz"),
    )
)  # fmt: skip
