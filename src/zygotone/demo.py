"""*Slack Tide*, the song that ships with Zygotone: an invented trio's, all of it synthesized here.

It has faults on purpose; docs/demo.md lists them. The same bytes of audio come out each time.
"""

from __future__ import annotations

from typing import Any

from zygotone.music.notes import NoteEvent, strummed
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import (
    Bus,
    Device,
    Envelope,
    InstrumentSource,
    Layer,
    Lfo,
    Note,
    Part,
    Phrase,
    Route,
    Section,
    Send,
    Session,
    Song,
    Sound,
    Track,
    VoiceFilter,
    Voices,
)
from zygotone.session.project_file import Project

RATE_HZ = 48000
TEMPO_BPM = 92.0
# Faults, as docs/demo.md tells them.
KICK_HZ = 46.9  # between F♯1 and G1: a quarter of a semitone above the bass
BASS_EARLY_MS = 9.0

KEYS_PAN_PCT, GUITAR_R_DB = -55.0, -9.0  # the picture leans left
PRESENCE_HZ, PRESENCE_DB = 2800.0, 12.0

HAT_HZ = 4186.0  # C8, a tritone from F♯

SECTIONS = (
    ("intro", "Intro", 4), ("verse", "Verse", 8), ("lift", "Lift", 2), ("chorus", "Chorus", 8), ("verse-2", "Verse 2", 4),
    ("lift-2", "Lift 2", 2), ("chorus-2", "Chorus 2", 4), ("break", "Break", 2), ("outro", "Outro", 4),
)  # fmt: skip
VERSES, LIFTS, CHORUSES = ("verse", "verse-2"), ("lift", "lift-2"), ("chorus", "chorus-2")
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


def _instrument(layers: list[Layer], parts: dict[str, Phrase], **more: object) -> dict[str, Any]:
    phrases = {p.id: p for p in parts.values()}
    played = tuple(Part(section=s, phrase=p.id) for s, p in parts.items())
    source = InstrumentSource.model_validate({"layers": tuple(layers), "phrases": tuple(phrases.values()), **more})
    return {"source": source, "parts": played}


def _in(phrase: Phrase, *sections: str) -> dict[str, Phrase]:
    return dict.fromkeys(sections, phrase)


def _device(kind: str, device_id: str, **values: object) -> Device:
    return Device.model_validate({"id": device_id, "kind": kind, **values})


def _drums() -> tuple[Track, Track, Track]:
    kick_on = (0.0, 1.5, 2.5)
    full = _phrase("kick", 1, [(b, 0.5, 60, 0.95 if b == 0.0 else 0.88) for b in kick_on])
    sparse = _phrase("kick-sparse", 1, [(0.0, 0.5, 60, 0.9)])
    kick = Track(
        id="kick", name="Kick", role="kick", seat=1, bus="drums", level_db=-10.0,
        **_instrument(
            [_layer("Body", "body", "drum", {"model": "kick", "tune_hz": KICK_HZ, "drop_semitones": 28, "drop_ms": 9, "decay_ms": 240, "click_db": -16, "bend_db": 4}, velocity_db=12)],
            _in(sparse, "intro", *LIFTS, "break", "outro") | _in(full, *VERSES, *CHORUSES),
        ),
    )  # fmt: skip
    roll = _phrase(
        "roll", 2, [(4.0 + b, 0.25, 60, 0.4 + 0.06 * n) for n, b in enumerate((0, 0.5, 1, 1.5, 2, 2.25, 2.5, 2.75, 3, 3.25, 3.5))]
    )  # fmt: skip
    backbeat = _phrase("snare", 1, [(1.0, 0.5, 60, 0.9), (3.0, 0.5, 60, 0.95)])
    snare = Track(
        id="snare", name="Snare", sends=(Send(to="space", level_db=-14.0),), role="snare", seat=2, bus="drums", level_db=-7.0,
        **_instrument(
            [_layer("Head", "body", "drum", {"model": "snare", "tune_hz": 185, "drop_semitones": 5, "drop_ms": 15, "decay_ms": 110, "tone_db": -6, "click_db": -12, "noise_db": 0, "noise_decay_ms": 150, "noise_low_hz": 900, "noise_high_hz": 9000})],
            _in(backbeat, *VERSES, *CHORUSES) | _in(roll, *LIFTS),
        ),
        chain=(_device("eq", "clean-up", label="Clean-up", bands=[{"shape": "low_cut", "freq_hz": 110}]),),
    )  # fmt: skip
    eighths = _phrase("hats", 1, [(b / 2, 0.25, 60, 0.8 if b % 2 == 0 else 0.55) for b in range(8)])
    hats = Track(
        id="hats", name="Hats", role="hats", seat=6, bus="drums", level_db=-8.0, pan_pct=15,
        **_instrument(
            [_layer("Metal", "air", "drum", {"model": "hat", "tune_hz": HAT_HZ, "drop_semitones": 0, "decay_ms": 70, "tone_db": -6, "click_db": -30, "noise_db": -8, "noise_decay_ms": 55, "noise_low_hz": 7000, "noise_high_hz": 16000})],
            _in(eighths, "intro", *VERSES, *LIFTS, *CHORUSES),
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
        **_instrument(
            [
                _layer(
                    "Body", "body", "oscillator", {"shape": "triangle", "shape_b": "saw", "mix_b": 38, "phase_deg": 0},
                    envelope=Envelope(attack_ms=6, decay_ms=300, sustain=0.95, release_ms=40),
                    filter=VoiceFilter(cutoff_hz=480, resonance=0.1, envelope_octaves=1.2, velocity_octaves=1.0, envelope=Envelope(attack_ms=2, decay_ms=220, sustain=0.3)),
                ),
            ],
            _in(bass_line, *VERSES, *CHORUSES),
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
        **_instrument(
            [_layer("Sub", "sub", "oscillator", {"shape": "sine", "shape_b": "sine", "mix_b": 50, "b_cents": 9, "spread_pct": 100}, envelope=Envelope(attack_ms=12, decay_ms=100, sustain=0.9, release_ms=60))],
            _in(sub_line, *CHORUSES, "break"),
        ),
    )  # fmt: skip
    return sub, bass


def _upper() -> tuple[Track, Track]:
    chords = [(4.0 * bar, 3.9, p, 0.7) for bar, chord in enumerate(CHORDS) for p in chord]
    pad_line = _phrase("pad", 4, chords)
    pad = Track(
        id="pad", name="Pad", sends=(Send(to="space", level_db=-10.0),), role="pad", seat=7, level_db=-20.6,
        **_instrument(
            [
                _layer(
                    "Wide saws", "width", "oscillator", {"shape": "saw", "shape_b": "saw", "mix_b": 50, "b_cents": 14, "spread_pct": 80},
                    envelope=Envelope(attack_ms=350, decay_ms=500, sustain=0.8, release_ms=600),
                    filter=VoiceFilter(cutoff_hz=1500, resonance=0.1, envelope_octaves=0.7, envelope=Envelope(attack_ms=900, decay_ms=1500, sustain=0.4)),
                ),
            ],
            _in(pad_line, *(section for section, _, _ in SECTIONS)),
        ),
        chain=(_device("eq", "clean-up", label="Clean-up", bands=[{"shape": "low_cut", "freq_hz": 140}]),),
    )  # fmt: skip
    tune = [(0.5, 0.9, 73, 0.8), (1.5, 0.9, 76, 0.85), (2.5, 1.2, 78, 0.9), (4.5, 0.9, 76, 0.8), (5.5, 2.0, 73, 0.85),
            (8.5, 0.9, 69, 0.8), (9.5, 0.9, 73, 0.85), (10.5, 1.2, 74, 0.9), (12.5, 0.9, 71, 0.8), (13.5, 2.0, 68, 0.8)]  # fmt: skip
    lead_line = _phrase("lead", 4, tune)
    lead = Track(
        id="lead", name="Lead", role="lead", seat=1, level_db=-5.0,
        **_instrument(
            [
                _layer(
                    "Reed", "body", "oscillator", {"shape": "pulse", "shape_b": "saw", "mix_b": 35, "b_cents": 6, "pulse_width": 34, "spread_pct": 15},
                    envelope=Envelope(attack_ms=15, decay_ms=400, sustain=0.7, release_ms=180),
                    filter=VoiceFilter(cutoff_hz=1500, resonance=0.2, envelope_octaves=0.8, velocity_octaves=1.0, key_follow=0.4, envelope=Envelope(attack_ms=10, decay_ms=350, sustain=0.3)),
                ),
            ],
            _in(lead_line, *CHORUSES, "outro"),
        ),
        chain=(_device("compressor", "compressor", threshold_db=-24, ratio=2.5, attack_ms=12, release_ms=160, detector="rms"),),
        sends=(Send(to="echo", level_db=-12.0), Send(to="space", level_db=-16.0)),
    )  # fmt: skip
    return lead, pad


def _guitar(name: str, pan_pct: float, level_db: float, *, pick: float, brightness: float, drive_db: float) -> Track:
    rhythm = ((0.0, 1.5, False), (1.5, 0.5, True), (2.0, 1.0, False), (3.0, 0.5, False), (3.5, 0.5, True))
    notes: list[NoteEvent] = []
    for bar, chord in enumerate(CHORDS):
        power = (chord[0], chord[0] + 7, chord[0] + 12, chord[2] + 12)
        for at, length, up in rhythm:
            struck = [NoteEvent(4.0 * bar + at, 0.98 * length, p, 0.75 if up else 0.9) for p in power]
            notes += strummed(struck, 21.0, upward=not up)
    line = Phrase(
        id=f"strum-{name[-1].lower()}", beats=16.0,
        notes=tuple(Note(start_beat=n.start_beat, length_beats=n.length_beats, pitch=n.pitch, velocity=n.velocity, nudge_ms=n.nudge_ms) for n in notes),
    )  # fmt: skip
    return Track(
        id=name.lower().replace(" ", "-"), name=name, role="guitar", seat=5, bus="guitars", level_db=level_db, pan_pct=pan_pct,
        **_instrument(
            [
                _layer(
                    "String", "body", "string", {"pick": pick, "brightness": brightness, "damping": 0.35, "decay_s": 3.0, "body": 0.0},
                    envelope=Envelope(attack_ms=0, sustain=1.0, release_ms=40), level_db=-11.0,
                ),
            ],
            _in(line, *VERSES, *CHORUSES),
        ),
        chain=(
            _device("eq", "clean-up", label="Clean-up", bands=[{"shape": "low_cut", "freq_hz": 110, "slope_db_oct": 18}]),
            _device("saturation", "saturation", curve="tube", drive_db=drive_db, bias=0.1, clean_below_hz=120),
            _device("cabinet", "box", label="Box", size=12, brightness=0.45),
        ),
    )  # fmt: skip


def _keys_and_voice() -> tuple[Track, Track]:
    stabs = [(4.0 * bar + at, 0.6, p, 0.7) for bar, chord in enumerate(CHORDS) for at in (0.5, 2.5) for p in chord]
    operators = [
        {"ratio": 1, "decay_ms": 2600, "sustain": 0.1, "index": 0}, {"ratio": 1, "index": 0.7, "decay_ms": 1500, "sustain": 0.1, "velocity": 0.8},
        {"ratio": 1, "level": 0.3, "index": 0, "decay_ms": 900, "sustain": 0.0}, {"ratio": 14, "index": 0.9, "decay_ms": 80, "sustain": 0.0, "velocity": 0.9},
    ]  # fmt: skip
    keys = Track(
        id="keys", name="Keys", role="keys", seat=6, level_db=-12.0, pan_pct=KEYS_PAN_PCT, sends=(Send(to="space", level_db=-14.0),),
        **_instrument(
            [
                _layer("Tine", "body", "fm", {"operators": operators}, envelope=Envelope(attack_ms=1, decay_ms=2400, sustain=0.2, release_ms=160), chain=(_device("tremolo", "sway", label="Sway", rate=0.4, depth=0.15, phase_deg=180),)),
                # The fault: it is turned over against the fundamental of the tine.
                _layer("Warmth", "texture", "oscillator", {"shape": "triangle"}, envelope=Envelope(attack_ms=1, decay_ms=2400, sustain=0.2, release_ms=160), level_db=-2.0, polarity=True),
            ],
            _in(_phrase("stabs", 4, stabs), *VERSES, *LIFTS, *CHORUSES),
        ),
    )  # fmt: skip
    tune = [(0.0, 3.5, 66, 0.7), (4.0, 3.5, 69, 0.7), (8.0, 3.5, 66, 0.75), (12.0, 3.0, 64, 0.7)]
    voice = Track(
        id="voice", name="Voice", role="voice", seat=1, level_db=0.5, sends=(Send(to="space", level_db=-10.0),),
        **_instrument(
            [
                _layer(
                    "Singer", "body", "formant", {"voice": "woman", "vowel": "ah", "vowel_to": "oo", "effort": 0.8, "breath_db": -38.0},
                    envelope=Envelope(attack_ms=90, decay_ms=300, sustain=0.9, release_ms=220),
                    lfos=(Lfo(rate=5.3, delay_ms=500, rise_ms=600), Lfo()),
                    routes=(Route(source="lfo1", target="pitch", amount=0.25), Route(source="macro1", target="sound.blend", amount=1.0)),
                ),
                # The fault: the floor of the stage, which the compressor hears and nobody else.
                _layer(
                    "Floor", "sub", "noise", {"colour": "brown", "low_hz": 20, "high_hz": 100}, level_db=1.0,
                    envelope=Envelope(attack_ms=200, sustain=1.0, release_ms=300), filter=VoiceFilter(cutoff_hz=32),
                ),
            ],
            _in(_phrase("long", 4, tune), *CHORUSES, "break"), voices=Voices(mode="legato", glide_ms=60.0), macros=("Vowel", "", "", ""),
        ),
        chain=(_device("compressor", "compressor", threshold_db=-26, ratio=3, attack_ms=8, release_ms=140),),
    )  # fmt: skip
    return keys, voice


def build_demo() -> Project:
    """The demo project, made afresh."""
    kick, snare, hats = _drums()
    sub, bass = _low_end()
    lead, pad = _upper()
    keys, voice = _keys_and_voice()
    guitars = (
        _guitar("Guitar L", -70.0, -4.5, pick=0.13, brightness=0.8, drive_db=20.0),
        _guitar("Guitar R", 70.0, GUITAR_R_DB, pick=0.17, brightness=0.75, drive_db=17.0),
    )
    session = Session(
        rate_hz=RATE_HZ,
        song=Song(
            title="Slack Tide", tempo_bpm=TEMPO_BPM, key="F# minor",
            sections=tuple(Section(id=i, name=n, bars=b) for i, n, b in SECTIONS),
        ),
        tracks=(kick, snare, hats, sub, bass, *guitars, lead, keys, voice, pad),
        buses=(
            Bus(id="drums", name="Drum bus"),
            Bus(id="low-end", name="Low end"),
            # The fault: they are brought forward just where the lead and the voice are understood.
            Bus(
                id="guitars", name="Guitars",
                chain=(_device("eq", "presence", label="Presence", bands=[{"shape": "bell", "freq_hz": PRESENCE_HZ, "gain_db": PRESENCE_DB, "q": 0.9}]),),
            ),
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
            chain=(_device("compressor", "gentle", label="Gentle", threshold_db=-14, ratio=1.5, knee_db=10, attack_ms=30, release_ms=200, detector="rms"), _device("limiter", "limiter", label="Ceiling", ceiling_dbtp=-1.0)),
        ),
    )  # fmt: skip
    return Project(session=session, store=AudioStore())
