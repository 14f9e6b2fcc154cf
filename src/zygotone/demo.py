"""*Slack Tide*, the song that ships with Zygotone: an invented trio's, all of it synthesized here.

It has faults on purpose; docs/demo.md lists them. The same bytes of audio come out each time.
"""

from __future__ import annotations

import numpy as np

from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, highpass_sos, lowpass_sos
from zygotone.dsp.shaping import shape
from zygotone.dsp.strings import plucked_string
from zygotone.dsp.types import FloatArray
from zygotone.music.pitch import midi_to_hz
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import (
    Asset,
    Bus,
    ClipSource,
    Device,
    Envelope,
    InstrumentSource,
    Layer,
    Note,
    Part,
    Phrase,
    Section,
    Send,
    Session,
    Song,
    Sound,
    Track,
    VoiceFilter,
)
from zygotone.session.project_file import Project

RATE_HZ = 48000
TEMPO_BPM = 92.0
# Faults, as docs/demo.md tells them.
KICK_HZ = 46.9  # between F♯1 and G1: a quarter of a semitone above the bass
BASS_EARLY_MS = 9.0

SECTIONS = (("intro", "Intro", 4), ("verse", "Verse", 8), ("chorus", "Chorus", 8), ("outro", "Outro", 4))
# One chord a bar: F♯m9, F♯m9 over its root again, Dmaj7, E6.
CHORDS = ((54, 57, 61, 68), (54, 57, 61, 66), (50, 57, 61, 66), (52, 56, 59, 61))
ROOTS = (30, 30, 38, 40)  # F♯1, F♯1, D2, E2


def _phrase(name: str, bars: int, notes: list[tuple[float, float, int, float]], nudge_ms: float = 0.0) -> Phrase:
    made = tuple(Note(start_beat=s, length_beats=n, pitch=p, velocity=v) for s, n, p, v in notes)
    return Phrase(id=name, beats=4.0 * bars, notes=made, nudge_ms=nudge_ms)


def _layer(name: str, job: str, kind: str, params: dict[str, object], **more: object) -> Layer:
    sound = Sound.model_validate({"kind": kind, **params})
    return Layer.model_validate(
        {"id": name.lower().replace(" ", "-"), "name": name, "job": job, "sound": sound, **more}
    )


def _instrument(layers: list[Layer], parts: dict[str, Phrase]) -> InstrumentSource:
    phrases = {p.id: p for p in parts.values()}
    played = tuple(Part(section=s, phrase=p.id) for s, p in parts.items())
    return InstrumentSource(layers=tuple(layers), phrases=tuple(phrases.values()), parts=played)


def _device(kind: str, device_id: str, **values: object) -> Device:
    return Device.model_validate({"id": device_id, "kind": kind, **values})


def _strum(chord: tuple[int, ...], seconds: float, *, up: bool, seed: int) -> FloatArray:
    frames = round(seconds * RATE_HZ)
    out = np.zeros(frames)
    strings = sorted(chord, reverse=up)
    for i, pitch in enumerate(strings):
        late = round(i * 0.007 * RATE_HZ)
        tone = plucked_string(
            midi_to_hz(pitch), frames - late, sample_rate_hz=RATE_HZ, decay_s=3.0, damping=0.35, pick=0.13, seed=seed * 16 + i
        )  # fmt: skip
        out[late:] += tone
    ramp = round(0.03 * RATE_HZ)
    out[-ramp:] *= np.linspace(1.0, 0.0, ramp)
    return out


def guitar_loop(seed: int, drive_db: float, transpose: int) -> FloatArray:
    """Four bars of strummed, driven guitar, shape (1, frames)."""
    beat = 60.0 / TEMPO_BPM
    rhythm = ((0.0, 1.5, False), (1.5, 0.5, True), (2.0, 1.0, False), (3.0, 0.5, False), (3.5, 0.5, True))
    out = np.zeros(round(16 * beat * RATE_HZ))
    for bar, chord in enumerate(CHORDS):
        power = tuple(p + transpose for p in (chord[0], chord[0] + 7, chord[0] + 12, chord[2] + 12))
        for i, (at, length, up) in enumerate(rhythm):
            start = round((4 * bar + at) * beat * RATE_HZ)
            tone = _strum(power, length * beat, up=up, seed=seed + 7 * bar + i)
            out[start : start + len(tone)] += 0.25 * tone[: len(out) - start]
    bent = shape("tube", out, drive_db=drive_db, bias=0.1)
    # What a loudspeaker in a box leaves of it.
    box = [
        highpass_sos(90.0, BUTTERWORTH_Q, sample_rate_hz=RATE_HZ),
        lowpass_sos(4800.0, 0.9, sample_rate_hz=RATE_HZ),
        lowpass_sos(6500.0, BUTTERWORTH_Q, sample_rate_hz=RATE_HZ),
    ]
    driven = SosStereo(np.array(box)).process(np.stack([bent, bent]))[:1]
    return np.asarray(driven * (0.5 / np.max(np.abs(driven))))


def _drums() -> tuple[Track, Track, Track]:
    kick_on = (0.0, 1.5, 2.5)
    full = _phrase("kick", 1, [(b, 0.5, 60, 0.95 if b == 0.0 else 0.88) for b in kick_on])
    sparse = _phrase("kick-sparse", 1, [(0.0, 0.5, 60, 0.9)])
    kick = Track(
        id="kick", name="Kick", role="kick", seat=1, bus="drums", level_db=-10.0,
        source=_instrument(
            [_layer("Body", "body", "drum", {"model": "kick", "tune_hz": KICK_HZ, "drop_semitones": 28, "drop_ms": 9, "decay_ms": 240, "click_db": -16, "bend_db": 4}, velocity_db=12)],
            {"intro": sparse, "verse": full, "chorus": full, "outro": sparse},
        ),
    )  # fmt: skip
    backbeat = _phrase("snare", 1, [(1.0, 0.5, 60, 0.9), (3.0, 0.5, 60, 0.95)])
    snare = Track(
        id="snare", name="Snare", sends=(Send(to="space", level_db=-14.0),), role="snare", seat=2, bus="drums", level_db=-7.0,
        source=_instrument(
            [_layer("Head", "body", "drum", {"model": "snare", "tune_hz": 185, "drop_semitones": 5, "drop_ms": 15, "decay_ms": 110, "tone_db": -6, "click_db": -12, "noise_db": 0, "noise_decay_ms": 150, "noise_low_hz": 900, "noise_high_hz": 9000})],
            {"verse": backbeat, "chorus": backbeat},
        ),
        chain=(_device("eq", "clean-up", label="Clean-up", bands=[{"shape": "low_cut", "freq_hz": 110}]),),
    )  # fmt: skip
    eighths = _phrase("hats", 1, [(b / 2, 0.25, 60, 0.8 if b % 2 == 0 else 0.55) for b in range(8)])
    hats = Track(
        id="hats", name="Hats", role="hats", seat=6, bus="drums", level_db=-8.0, pan_pct=15,
        source=_instrument(
            [_layer("Metal", "air", "drum", {"model": "hat", "tune_hz": 3322, "drop_semitones": 0, "decay_ms": 45, "tone_db": -14, "click_db": -30, "noise_db": -4, "noise_decay_ms": 55, "noise_low_hz": 6500, "noise_high_hz": 16000})],
            {"intro": eighths, "verse": eighths, "chorus": eighths},
        ),
    )  # fmt: skip
    return kick, snare, hats


def _bass_notes() -> list[tuple[float, float, int, float]]:
    notes = []
    for bar, root in enumerate(ROOTS):
        at = 4.0 * bar
        notes += [
            (at, 1.0, root, 0.9),
            (at + 1.5, 0.8, root, 0.8),
            (at + 2.5, 0.7, root, 0.85),
            (at + 3.5, 0.4, root + 7, 0.7),
        ]
    return notes


def _low_end() -> tuple[Track, Track]:
    bass_line = _phrase("bass", 4, _bass_notes(), nudge_ms=-BASS_EARLY_MS)
    bass = Track(
        id="bass", name="Bass", role="bass", seat=3, bus="low-end", level_db=-1.0,
        source=_instrument(
            [
                _layer(
                    "Body", "body", "oscillator", {"shape": "triangle", "shape_b": "saw", "mix_b": 38, "phase_deg": 0},
                    envelope=Envelope(attack_ms=6, decay_ms=300, sustain=0.95, release_ms=40),
                    filter=VoiceFilter(cutoff_hz=480, resonance=0.1, envelope_octaves=1.2, velocity_octaves=1.0, envelope=Envelope(attack_ms=2, decay_ms=220, sustain=0.3)),
                ),
            ],
            {"verse": bass_line, "chorus": bass_line},
        ),
        chain=(
            _device("eq", "clean-up", label="Clean-up", bands=[{"shape": "low_cut", "freq_hz": 28}, {"shape": "bell", "freq_hz": 220, "gain_db": -2.0, "q": 1.0}]),
            _device("compressor", "compressor", threshold_db=-14, ratio=2, attack_ms=30, release_ms=140),
        ),
    )  # fmt: skip
    # The sub stays out of the kick's way: it sounds on the beats the kick leaves free.
    sub_line = _phrase(
        "sub", 4, [(4.0 * bar + at, 0.45, root, 0.8) for bar, root in enumerate(ROOTS) for at in (1.0, 3.0)]
    )
    sub = Track(
        id="sub", name="Sub", role="sub", seat=2, bus="low-end", level_db=-16.0,
        source=_instrument(
            [_layer("Sub", "sub", "oscillator", {"shape": "sine", "shape_b": "sine", "mix_b": 50, "b_cents": 9, "spread_pct": 70}, envelope=Envelope(attack_ms=12, decay_ms=100, sustain=0.9, release_ms=60))],
            {"chorus": sub_line},
        ),
    )  # fmt: skip
    return sub, bass


def _upper() -> tuple[Track, Track]:
    chords = [(4.0 * bar, 3.9, p, 0.7) for bar, chord in enumerate(CHORDS) for p in chord]
    pad_line = _phrase("pad", 4, chords)
    pad = Track(
        id="pad", name="Pad", sends=(Send(to="space", level_db=-10.0),), role="pad", seat=7, level_db=-17.0,
        source=_instrument(
            [
                _layer(
                    "Wide saws", "width", "oscillator", {"shape": "saw", "shape_b": "saw", "mix_b": 50, "b_cents": 14, "spread_pct": 80},
                    envelope=Envelope(attack_ms=350, decay_ms=500, sustain=0.8, release_ms=600),
                    filter=VoiceFilter(cutoff_hz=1500, resonance=0.1, envelope_octaves=0.7, envelope=Envelope(attack_ms=900, decay_ms=1500, sustain=0.4)),
                ),
            ],
            dict.fromkeys(("intro", "verse", "chorus", "outro"), pad_line),
        ),
        chain=(_device("eq", "clean-up", label="Clean-up", bands=[{"shape": "low_cut", "freq_hz": 140}]),),
    )  # fmt: skip
    tune = [(0.5, 0.9, 73, 0.8), (1.5, 0.9, 76, 0.85), (2.5, 1.2, 78, 0.9), (4.5, 0.9, 76, 0.8), (5.5, 2.0, 73, 0.85),
            (8.5, 0.9, 69, 0.8), (9.5, 0.9, 73, 0.85), (10.5, 1.2, 74, 0.9), (12.5, 0.9, 71, 0.8), (13.5, 2.0, 68, 0.8)]  # fmt: skip
    lead_line = _phrase("lead", 4, tune)
    lead = Track(
        id="lead", name="Lead", role="lead", seat=1, level_db=-8.0,
        source=_instrument(
            [
                _layer(
                    "Reed", "body", "oscillator", {"shape": "pulse", "shape_b": "saw", "mix_b": 35, "b_cents": 6, "pulse_width": 34, "spread_pct": 15},
                    envelope=Envelope(attack_ms=15, decay_ms=400, sustain=0.7, release_ms=180),
                    filter=VoiceFilter(cutoff_hz=2600, resonance=0.2, envelope_octaves=0.8, velocity_octaves=1.0, key_follow=0.4, envelope=Envelope(attack_ms=10, decay_ms=350, sustain=0.3)),
                ),
            ],
            {"chorus": lead_line, "outro": lead_line},
        ),
        chain=(_device("compressor", "compressor", threshold_db=-24, ratio=2.5, attack_ms=12, release_ms=160, detector="rms"),),
        sends=(Send(to="echo", level_db=-12.0), Send(to="space", level_db=-16.0)),
    )  # fmt: skip
    return lead, pad


def _guitar(name: str, pan_pct: float, asset: Asset, drive_db: float) -> Track:
    return Track(
        id=name.lower().replace(" ", "-"), name=name, role="guitar", seat=5, bus="guitars", level_db=-4.5, pan_pct=pan_pct,
        source=ClipSource(asset=asset.id, loop=True, sections=("verse", "chorus")),
        chain=(
            _device("eq", "clean-up", label="Clean-up", bands=[{"shape": "low_cut", "freq_hz": 110, "slope_db_oct": 18}]),
            _device("saturation", "saturation", curve="tube", drive_db=drive_db, clean_below_hz=180),
        ),
    )  # fmt: skip


def build_demo() -> Project:
    """The demo project, made afresh."""
    store = AudioStore()
    guitars = []
    for name, pan, seed, drive, transpose in (("Guitar L", -70.0, 11, 15.0, 0), ("Guitar R", 70.0, 503, 12.0, 0)):
        loop = AudioData(guitar_loop(seed, drive, transpose), RATE_HZ, "FLOAT", "WAV")
        asset = store.add(loop, f"{name} loop", RATE_HZ)
        guitars.append((_guitar(name, pan, asset, 6.0), asset))
    kick, snare, hats = _drums()
    sub, bass = _low_end()
    lead, pad = _upper()
    session = Session(
        rate_hz=RATE_HZ,
        song=Song(
            title="Slack Tide", tempo_bpm=TEMPO_BPM, key="F# minor",
            sections=tuple(Section(id=i, name=n, bars=b) for i, n, b in SECTIONS),
        ),
        tracks=(kick, snare, hats, sub, bass, guitars[0][0], guitars[1][0], lead, pad),
        buses=(
            Bus(id="drums", name="Drum bus"),
            Bus(id="low-end", name="Low end"),
            Bus(id="guitars", name="Guitars"),
            Bus(
                id="space", name="Space", level_db=-4.0,
                chain=(_device("reverb", "reverb", label="Hall", space="hall", decay_s=2.2, predelay="1/64", low_cut_hz=250, damping_hz=6000),),
            ),
            Bus(
                id="echo", name="Echo", level_db=-6.0,
                chain=(_device("delay", "delay", label="Dotted eighth", mode="ping_pong", time="1/8d", feedback=0.35, low_cut_hz=300, high_cut_hz=4500),),
                sends=(Send(to="space", level_db=-12.0),),
            ),
        ),
        mix=Bus(
            id="mix", name="Mix", level_db=-3.0,
            chain=(_device("compressor", "glue", label="Glue", threshold_db=-14, ratio=1.5, knee_db=10, attack_ms=30, release_ms=200, detector="rms"), _device("limiter", "limiter", label="Ceiling", ceiling_dbtp=-1.0)),
        ),
        assets=tuple(asset for _, asset in guitars),
    )  # fmt: skip
    return Project(session=session, store=store)
