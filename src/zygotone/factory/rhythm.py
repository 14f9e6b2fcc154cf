"""Kicks, snares, claps, hats and percussion."""

from __future__ import annotations

from typing import Any

from zygotone.factory.making import layer, sound
from zygotone.session.saved_sounds import SavedSound


def _drum(name: str, job: str, model: str, **values: Any) -> dict[str, Any]:
    more = {
        key: values.pop(key) for key in ("level_db", "pan_pct", "chain", "start_ms", "velocity_db") if key in values
    }
    return layer(name, job, "drum", {"model": model, **values}, **more)


def rhythm() -> list[SavedSound]:
    tight = {"drop_semitones": 30, "drop_ms": 7}
    return [
        sound("Round kick", "kick", "soft deep", "A sine that drops two octaves in 14 ms and rings for a third of a second.",
              _drum("Body", "body", "kick", tune_hz=46.25, drop_semitones=24, drop_ms=14, decay_ms=330, click_db=-26)),
        sound("Tight kick", "kick", "short dry", "The body dies within 180 ms; a separate click carries it on small speakers.",
              _drum("Body", "body", "kick", tune_hz=52, decay_ms=180, click_db=-60, **tight),
              _drum("Beater", "attack", "rim", tune_hz=1700, drop_semitones=0, decay_ms=14, tone_db=-14, click_db=-12, click_hz=4200)),
        sound("Long kick", "kick", "deep boom", "Almost a bass note: the tone rings for a second, so give it room or a gate.",
              _drum("Body", "sub", "kick", tune_hz=43.65, drop_semitones=20, drop_ms=20, decay_ms=900, click_db=-18)),
        sound("Driven kick", "kick", "hard bent", "The sine is driven into a soft curve, whose odd partials are heard where the sine is not.",
              _drum("Body", "body", "kick", tune_hz=49, drop_semitones=28, drop_ms=9, decay_ms=260, bend_db=14, click_db=-18)),
        sound("Felt kick", "kick", "soft acoustic", "A short membrane with a dull noise, as of a felt beater on a real head.",
              _drum("Head", "body", "tom", tune_hz=58, drop_semitones=7, drop_ms=22, decay_ms=220, click_db=-60),
              _drum("Felt", "attack", "snare", tone_db=-60, click_db=-60, noise_db=-8, noise_decay_ms=22, noise_low_hz=300, noise_high_hz=2500)),
        sound("Clicking kick", "kick", "bright modern", "A deep, clean sub and a bright click with nothing in between.",
              _drum("Sub", "sub", "kick", tune_hz=46.25, drop_semitones=12, drop_ms=10, decay_ms=280, click_db=-60),
              _drum("Click", "attack", "hat", tune_hz=2960, drop_semitones=0, decay_ms=6, tone_db=-18, click_db=-10, click_hz=5000)),
        sound("Dusty kick", "kick", "old soft", "A short boom through few bits and a dull edge, as from an old sampler.",
              _drum("Body", "body", "kick", tune_hz=55, drop_semitones=19, drop_ms=18, decay_ms=240, click_db=-30, noise_db=-26, noise_decay_ms=60, noise_low_hz=200, noise_high_hz=2600, chain=[{"kind": "bit_reducer", "bits": 9, "rate_hz": 16000}])),
        sound("Rubber kick", "kick", "falling long", "It falls slowly, over a tenth of a second, so that the fall is heard as a note.",
              _drum("Body", "body", "kick", tune_hz=41.2, drop_semitones=31, drop_ms=70, decay_ms=480, click_db=-34)),
        sound("Dry snare", "snare", "dry tight", "Two modes of a head and a short noise above a kilohertz.",
              _drum("Head", "body", "snare", tune_hz=185, drop_semitones=5, drop_ms=12, decay_ms=90, click_db=-24),
              _drum("Wires", "texture", "snare", tone_db=-60, click_db=-60, noise_db=-4, noise_decay_ms=120, noise_low_hz=1200, noise_high_hz=14000)),
        sound("Fat snare", "snare", "deep wide", "Tuned low, with a long body under short wires.",
              _drum("Head", "body", "snare", tune_hz=138.6, drop_semitones=7, drop_ms=16, decay_ms=190, click_db=-20, bend_db=6),
              *(_drum(f"Wires {side}", "width", "snare", tone_db=-60, click_db=-60, noise_db=-5, noise_decay_ms=170, noise_low_hz=700, noise_high_hz=9000, pan_pct=pan) for side, pan in (("left", -80), ("right", 80)))),
        sound("Crack snare", "snare", "bright hard", "A hard click in front of bright wires; the head is hardly there.",
              _drum("Head", "body", "snare", tune_hz=233, drop_semitones=9, drop_ms=6, decay_ms=60, click_db=-8, click_hz=4500),
              _drum("Wires", "air", "snare", tone_db=-60, click_db=-60, noise_db=0, noise_decay_ms=90, noise_low_hz=6000, noise_high_hz=16000)),
        sound("Brushed snare", "snare", "soft slow", "Noise that swells for 30 ms before it falls, as a brush does.",
              _drum("Brush", "body", "shaker", tone_db=-60, click_db=-60, noise_db=0, noise_rise_ms=30, noise_decay_ms=140, noise_low_hz=900, noise_high_hz=9000)),
        sound("Clap", "snare", "hands", "Four bursts of noise 11 ms apart, the last one with a room's length.",
              _drum("Hands", "body", "clap", tone_db=-60, click_db=-60, noise_db=0, bursts=4, burst_ms=11, noise_decay_ms=130, noise_low_hz=800, noise_high_hz=6000)),
        sound("Wide clap", "snare", "hands wide", "Two claps of unlike spacing, one to each side.",
              _drum("Left", "width", "clap", tone_db=-60, click_db=-60, noise_db=0, bursts=4, burst_ms=10, noise_decay_ms=150, noise_low_hz=900, pan_pct=-70),
              _drum("Right", "width", "clap", tone_db=-60, click_db=-60, noise_db=0, bursts=3, burst_ms=14, noise_decay_ms=170, noise_low_hz=1100, pan_pct=70)),
        sound("Rim snare", "snare", "rim ringing", "Hit with the rim: the ring of the shell over a tuned head.",
              _drum("Head", "body", "snare", tune_hz=208, drop_semitones=4, drop_ms=9, decay_ms=130, click_db=-18, noise_db=-12, noise_decay_ms=100, noise_low_hz=1500),
              _drum("Shell", "attack", "rim", tune_hz=830, drop_semitones=0, decay_ms=210, tone_db=-12, click_db=-14)),
        sound("Ghost snare", "snare", "soft short", "A tip of the stick near the edge: mostly wires, and those short.",
              _drum("Wires", "body", "snare", tune_hz=247, drop_semitones=2, decay_ms=45, tone_db=-16, click_db=-30, noise_db=-3, noise_decay_ms=60, noise_low_hz=2200, noise_high_hz=9000)),
        sound("Snap", "snare", "fingers dry", "Two bursts close together and high: fingers.",
              _drum("Snap", "body", "clap", tone_db=-60, click_db=-16, click_hz=2600, noise_db=0, bursts=2, burst_ms=5, noise_decay_ms=38, noise_low_hz=1900, noise_high_hz=7000)),
        sound("Closed hat", "hats", "short", "Six partials of metal under short noise.",
              _drum("Metal", "air", "hat", tune_hz=2960, drop_semitones=0, decay_ms=40, tone_db=-12, click_db=-30, noise_db=-3, noise_decay_ms=50, noise_low_hz=7000, noise_high_hz=18000)),
        sound("Open hat", "hats", "long", "A looser pair, let go: 400 ms.",
              _drum("Metal", "air", "hat", tune_hz=2489, drop_semitones=0, decay_ms=380, tone_db=-13, click_db=-30, noise_db=-3, noise_decay_ms=420, noise_low_hz=6500, noise_high_hz=18000)),
        sound("Tin hat", "hats", "pitched metallic", "More tone than noise: tune it to the song.",
              _drum("Metal", "body", "hat", tune_hz=1480, drop_semitones=0, decay_ms=60, tone_db=-2, click_db=-24, noise_db=-18, noise_decay_ms=30, noise_low_hz=5000)),
        sound("Soft hat", "hats", "dark", "Noise only, closed above 11 kHz, with a little rise.",
              _drum("Noise", "air", "shaker", tone_db=-60, click_db=-60, noise_db=0, noise_rise_ms=4, noise_decay_ms=45, noise_low_hz=6000, noise_high_hz=11000)),
        sound("Sizzling hat", "hats", "half open wash", "Half open: a wash of hundreds of modes, as long as an eighth.",
              _drum("Wash", "air", "cymbal", tune_hz=1661, drop_semitones=0, decay_ms=190, tone_db=-2, click_db=-34, noise_db=-14, noise_decay_ms=160, noise_low_hz=5000, noise_high_hz=16000)),
        sound("Foot hat", "hats", "foot dull", "Closed by the foot: a soft, dull chick without a stick.",
              _drum("Chick", "air", "hat", tune_hz=1976, drop_semitones=0, decay_ms=40, tone_db=-10, click_db=-60, noise_db=-2, noise_rise_ms=12, noise_decay_ms=70, noise_low_hz=2600, noise_high_hz=8500)),
        sound("Tick hat", "hats", "clock tiny", "A click and almost nothing after it, for machines that count.",
              _drum("Tick", "air", "hat", tune_hz=5920, drop_semitones=0, decay_ms=34, tone_db=-6, click_db=-24, click_hz=9000, noise_db=-8, noise_decay_ms=36, noise_low_hz=9000, noise_high_hz=18000)),
        sound("Shaker", "percussion", "grain", "Noise that swells and stops, once to and once fro.",
              _drum("Grain", "texture", "shaker", tone_db=-60, click_db=-60, noise_db=0, noise_rise_ms=35, noise_decay_ms=50, bursts=2, burst_ms=58, noise_low_hz=4500, noise_high_hz=14000)),
        sound("Rim", "percussion", "wood short", "Two modes of wood, gone in 40 ms.",
              _drum("Stick", "attack", "rim", tune_hz=740, drop_semitones=0, decay_ms=34, click_db=-14, click_hz=3200)),
        sound("Low tom", "percussion", "deep", "Four modes of a membrane, falling a fourth.",
              _drum("Head", "body", "tom", tune_hz=69.3, drop_semitones=5, drop_ms=60, decay_ms=420, click_db=-20),
              _drum("Stick", "attack", "snare", tone_db=-60, click_db=-14, noise_db=-16, noise_decay_ms=18, noise_low_hz=1500)),
        sound("High tom", "percussion", "round", "The same an octave higher and shorter.",
              _drum("Head", "body", "tom", tune_hz=138.6, drop_semitones=5, drop_ms=45, decay_ms=280, click_db=-20)),
        sound("Crash", "percussion", "cymbal long", "Hundreds of modes, the high ones gone first, in a little noise.",
              _drum("Metal", "body", "cymbal", tune_hz=370, drop_semitones=0, decay_ms=900, tone_db=-6, click_db=-30, noise_db=-2, noise_decay_ms=1300, noise_low_hz=3500, noise_high_hz=17000)),
        sound("Splash", "percussion", "cymbal short", "A small, thin cymbal: high, quick to speak and soon gone.",
              _drum("Metal", "body", "cymbal", tune_hz=784, drop_semitones=0, decay_ms=420, tone_db=0, click_db=-28, noise_db=-12, noise_decay_ms=300, noise_low_hz=5000, noise_high_hz=18000)),
        sound("China", "percussion", "cymbal trashy", "Bent metal, dark and rough, driven a little.",
              _drum("Metal", "body", "cymbal", tune_hz=233, drop_semitones=0, decay_ms=600, tone_db=0, click_db=-26, noise_db=-10, noise_decay_ms=500, noise_low_hz=1800, noise_high_hz=9000, chain=[{"kind": "saturation", "curve": "tube", "drive_db": 10}])),
        sound("Temple block", "percussion", "block pitched", "Two modes of a hollow block, tuned to a high note.",
              _drum("Block", "body", "rim", tune_hz=1109, drop_semitones=1, drop_ms=4, decay_ms=70, click_db=-20, click_hz=2400)),
        sound("Hand drum", "percussion", "skin warm", "A palm on a skin: a round tone that bends a little, and the hand.",
              _drum("Skin", "body", "tom", tune_hz=196, drop_semitones=3, drop_ms=30, decay_ms=160, click_db=-30),
              _drum("Palm", "attack", "snare", tone_db=-60, click_db=-60, noise_db=-12, noise_decay_ms=26, noise_low_hz=500, noise_high_hz=3500)),
        sound("Ride", "percussion", "cymbal ping", "A clear ping over a quiet wash.",
              _drum("Ping", "attack", "cymbal", tune_hz=740, drop_semitones=0, decay_ms=500, tone_db=-4, click_db=-22, click_hz=6000, noise_db=-60),
              _drum("Wash", "air", "shaker", tone_db=-60, click_db=-60, noise_db=-20, noise_decay_ms=700, noise_low_hz=7000)),
    ]  # fmt: skip
