"""Subs, basses, guitars, keys, leads, pads, voices and effects."""

from __future__ import annotations

from zygotone.factory.making import OFF, env, high, layer, low, op, route, sound
from zygotone.session.saved_sounds import SavedSound

_HELD = env(4, 200, 1.0, 60)


def basses() -> list[SavedSound]:
    return [
        sound("Pure sub", "sub", "deep plain", "One sine, at the pitch played: nothing above it to get in the way.",
              layer("Sub", "sub", "oscillator", {"shape": "sine"}, envelope=env(8, 100, 1.0, 60))),
        sound("Warm sub", "sub", "deep soft", "A triangle closed at 200 Hz: a trace of third partial tells the note on small speakers.",
              layer("Sub", "sub", "oscillator", {"shape": "triangle"}, envelope=_HELD, filter=low(200))),
        sound("Dropping sub", "sub", "boom", "A sine that falls a fifth in 80 ms, as a long kick does.",
              layer("Sub", "sub", "oscillator", {"shape": "sine"}, envelope=env(2, 1400, 0.0, 120), bend={"attack_ms": 0, "decay_ms": 80, "sustain": 0.0}, bend_semitones=7)),
        sound("Octave sub", "sub", "full", "A sine and, 14 dB under it, its octave for the ear to hold on to.",
              layer("Sub", "sub", "oscillator", {"shape": "sine", "shape_b": "sine", "mix_b": 12, "b_semitones": 12}, envelope=_HELD)),
        sound("Three-part bass", "bass", "full modern", "A sine alone below 80 Hz, a saw for the body above it, a click for the onset.",
              layer("Floor", "sub", "oscillator", {"shape": "sine"}, envelope=_HELD, output="direct"),
              layer("Body", "body", "oscillator", {"shape": "saw"}, envelope=env(3, 300, 0.7, 60), filter=low(700, 0.15, opens=1.5), level_db=-2, chain=[{"kind": "eq", "bands": [{"shape": "low_cut", "freq_hz": 95, "slope_db_oct": 24}]}]),
              layer("Click", "attack", "noise", {"low_hz": 1500, "high_hz": 6000, "width_pct": 0}, envelope=env(0, 18, 0.0, 10), level_db=-16)),
        sound("Finger bass", "bass", "soft fm", "A modulator at half the pitch fills the middle, and dies away as a string does.",
              layer("Finger", "body", "fm", {"algorithm": "pairs", "operators": [op(1, decay=1400, sustain=0.25), op(0.5, 1.3, decay=500, sustain=0.2, velocity=0.7), OFF, OFF]}, envelope=env(2, 1800, 0.3, 90))),
        sound("Round bass", "bass", "plucked dark", "A triangle with a filter that closes: the old ballad bass.",
              layer("Body", "body", "oscillator", {"shape": "triangle", "shape_b": "saw", "mix_b": 25}, envelope=env(3, 900, 0.4, 80), filter=low(350, 0.1, opens=2.0, envelope=env(0, 220, 0.0, 100)))),
        sound("Acid line", "bass", "mono resonant", "A saw through a resonant filter that snaps shut; legato notes glide.",
              layer("Line", "body", "oscillator", {"shape": "saw"}, envelope=env(1, 400, 0.6, 40), filter=low(300, 0.78, opens=3.2, envelope=env(0, 180, 0.0, 80), slope_db_oct=24, velocity_octaves=1.0)),
              voices={"mode": "legato", "glide_ms": 60, "glide_when": "overlap"}),
        sound("Growling bass", "bass", "wobble drawn", "A table of driven waves, swept by an LFO in eighths that both layers share.",
              layer("Floor", "sub", "oscillator", {"shape": "sine"}, envelope=_HELD, output="direct"),
              layer("Growl", "body", "wavetable", {"table": "growl", "position": 0.5}, envelope=_HELD, filter=low(900, 0.3, slope_db_oct=24), level_db=-4, routes=[route("shared1", "sound.position", 0.45), route("shared1", "filter.cutoff_hz", 1.4)], chain=[{"kind": "eq", "bands": [{"shape": "low_cut", "freq_hz": 100, "slope_db_oct": 24}]}]),
              lfos=({"shape": "triangle", "mode": "free", "rate": "1/8"}, {"mode": "free"}), voices={"mode": "mono"}),
        sound("Rubber bass", "bass", "square", "A square an octave down and a soft knock in front.",
              layer("Body", "body", "oscillator", {"shape": "pulse", "pulse_width": 42}, envelope=env(2, 260, 0.5, 50), filter=low(520, 0.25, opens=1.6)),
              layer("Knock", "attack", "drum", {"model": "rim", "tune_hz": 620, "drop_semitones": 12, "decay_ms": 12, "click_db": -18}, level_db=-16)),
        sound("Plucked bass", "bass", "string", "A string plucked near the bridge, long and bright.",
              layer("String", "body", "string", {"pick": 0.12, "brightness": 0.55, "damping": 0.3, "decay_s": 5.0, "body": 0.2, "body_hz": 80}, envelope=env(0, 100, 1.0, 70))),
        sound("Muted bass", "bass", "string palm", "The same under the palm of the hand.",
              layer("String", "body", "string", {"pick": 0.25, "brightness": 0.4, "damping": 0.5, "decay_s": 3.0, "mute": 0.6, "body": 0.25, "body_hz": 90}, envelope=env(0, 100, 1.0, 50))),
        sound("Reese", "bass", "wide detuned", "Five saws against each other, mono below 120 Hz.",
              layer("Saws", "body", "oscillator", {"shape": "saw", "unison": 5, "detune_cents": 28, "spread_pct": 70}, envelope=_HELD, filter=low(1100, 0.1), chain=[{"kind": "mono_low", "freq_hz": 120}])),
        sound("Square sub", "sub", "chip hollow", "A square closed at 150 Hz: hollow, and easier to hear than a sine.",
              layer("Sub", "sub", "oscillator", {"shape": "pulse", "pulse_width": 50}, envelope=env(5, 600, 0.7, 80), filter=low(150))),
        sound("Slap bass", "bass", "thumb bright", "A thumb on a stiff string: bright at once, and two stages of decay.",
              layer("String", "body", "string", {"pick": 0.06, "brightness": 0.85, "damping": 0.22, "decay_s": 3.5, "stiffness": 0.7, "aftersound": 0.4, "body": 0.15, "body_hz": 90, "velocity": 0.7}, envelope=env(0, 100, 1.0, 60)),
              layer("Snap", "attack", "noise", {"low_hz": 2500, "high_hz": 9000, "width_pct": 0}, envelope=env(0, 8, 0.0, 6), level_db=-22)),
        sound("Upright bass", "bass", "wood acoustic", "A gut string on a large body, plucked far from the bridge.",
              layer("String", "body", "string", {"pick": 0.3, "brightness": 0.28, "damping": 0.45, "decay_s": 1.8, "stiffness": 0.25, "aftersound": 0.5, "body": 0.6, "body_hz": 68, "velocity": 0.6}, envelope=env(3, 100, 1.0, 90))),
        sound("Pulse-width bass", "bass", "moving analog", "A pulse whose width drifts slowly, closed at 800 Hz.",
              layer("Body", "body", "oscillator", {"shape": "pulse", "pulse_width": 30}, envelope=env(3, 500, 0.75, 70), filter=low(800, 0.15, opens=0.8), lfos=({"shape": "triangle", "rate": 0.7, "mode": "free"}, {}), routes=[route("lfo1", "sound.pulse_width", 18)])),
        sound("Hollow FM bass", "bass", "fm wooden", "A modulator at three times the pitch: odd partials only, like wood.",
              layer("Hollow", "body", "fm", {"algorithm": "pairs", "operators": [op(1, decay=1100, sustain=0.3), op(2, 1.8, decay=260, sustain=0.15, velocity=0.8), OFF, OFF]}, envelope=env(1, 1300, 0.35, 70))),
        sound("Sync bite", "bass", "hard bright", "Two saws a fifth apart into a curve, short and hard.",
              layer("Bite", "body", "oscillator", {"shape": "saw", "shape_b": "saw", "mix_b": 50, "b_semitones": 7}, envelope=env(1, 180, 0.35, 40), filter=low(1800, 0.3, opens=1.5, slope_db_oct=24), chain=[{"kind": "saturation", "curve": "hard", "drive_db": 12, "clean_below_hz": 90}])),
    ]  # fmt: skip


def strings() -> list[SavedSound]:
    return [
        sound("Steel guitar", "guitar", "clean bright", "Plucked a sixth of the way along the string, with a small body.",
              layer("String", "body", "string", {"pick": 0.16, "brightness": 0.75, "damping": 0.25, "decay_s": 4.5, "body": 0.3}, envelope=env(0, 100, 1.0, 120))),
        sound("Nylon guitar", "guitar", "soft round", "A thumb near the middle of a softer string, on a larger body.",
              layer("String", "body", "string", {"pick": 0.35, "brightness": 0.4, "damping": 0.5, "decay_s": 2.6, "body": 0.45, "body_hz": 98}, envelope=env(0, 100, 1.0, 120))),
        sound("Muted guitar", "guitar", "palm short", "The palm on the bridge, for chugging eighths.",
              layer("String", "body", "string", {"pick": 0.12, "brightness": 0.7, "damping": 0.4, "decay_s": 3.0, "mute": 0.5, "body": 0.15}, envelope=env(0, 100, 1.0, 50))),
        sound("Driven guitar", "guitar", "distorted", "The string through a tube curve and a cabinet of twelve inches.",
              layer("String", "body", "string", {"pick": 0.13, "brightness": 0.8, "damping": 0.3, "decay_s": 5.0, "body": 0.0}, envelope=env(0, 100, 1.0, 90), chain=[{"kind": "saturation", "curve": "tube", "drive_db": 26, "bias": 0.1, "clean_below_hz": 100}, {"kind": "cabinet", "size": 12, "brightness": 0.45}])),
        sound("Fuzz guitar", "guitar", "distorted hard", "As far as it goes, for a second, then a darker cabinet.",
              layer("String", "body", "string", {"pick": 0.2, "brightness": 0.8, "damping": 0.5, "decay_s": 2.6, "body": 0.0}, envelope=env(0, 100, 1.0, 90), chain=[{"kind": "saturation", "curve": "fuzz", "drive_db": 36}, {"kind": "cabinet", "size": 15, "brightness": 0.05}])),
        sound("Twelve strings", "guitar", "double shimmer", "Each string beside its octave, a little out of tune.",
              layer("String", "body", "string", {"pick": 0.15, "brightness": 0.75, "damping": 0.25, "decay_s": 4.0, "body": 0.3, "aftersound": 0.4}, envelope=env(0, 100, 1.0, 120), pan_pct=-20),
              layer("Octave", "air", "string", {"pick": 0.13, "brightness": 0.85, "damping": 0.2, "decay_s": 3.0, "body": 0.2}, envelope=env(0, 100, 1.0, 120), transpose_semitones=12, tune_cents=5, level_db=-7, pan_pct=25)),
        sound("Slack steel", "guitar", "long resonator", "Steel over a cone: stiff, nasal, with a long aftersound.",
              layer("String", "body", "string", {"pick": 0.09, "brightness": 0.65, "damping": 0.18, "decay_s": 3.0, "stiffness": 0.5, "aftersound": 1.0, "body": 0.5, "body_hz": 310}, envelope=env(0, 100, 1.0, 160))),
        sound("Baritone guitar", "guitar", "low dark", "Heavy strings, plucked with the flesh, an open, dark body.",
              layer("String", "body", "string", {"pick": 0.24, "brightness": 0.5, "damping": 0.38, "decay_s": 3.2, "stiffness": 0.6, "aftersound": 0.5, "body": 0.35, "body_hz": 85}, envelope=env(1, 100, 1.0, 120))),
    ]  # fmt: skip


def keys() -> list[SavedSound]:
    return [
        sound("Tine piano", "keys", "electric fm", "A sine with its own octave for the bar, and an operator at ratio 14, gone in 80 ms, for the tine.",
              layer("Bar", "body", "fm", {"algorithm": "pairs", "operators": [op(1, decay=2600, sustain=0.1), op(1, 0.7, decay=1500, sustain=0.1, velocity=0.8), op(1, level=0.35, decay=900, sustain=0.0), op(14, 0.9, decay=80, sustain=0.0, velocity=0.9)]}, envelope=env(1, 3000, 0.2, 220))),
        sound("Reed piano", "keys", "electric bark", "Two operators in a row give the bark when it is hit hard.",
              layer("Reed", "body", "fm", {"algorithm": "chain", "operators": [op(1, decay=2200, sustain=0.1), op(1, 1.1, decay=900, sustain=0.2, velocity=0.9), op(2, 0.6, decay=300, sustain=0.0, velocity=0.9), OFF]}, envelope=env(1, 2600, 0.2, 160))),
        sound("Bell piano", "keys", "bright fm", "A modulator at 3.5 makes the partials miss the pitch: a bell.",
              layer("Bell", "body", "fm", {"algorithm": "pairs", "operators": [op(1, decay=2400, sustain=0.0), op(3.5, 1.6, decay=900, sustain=0.0, velocity=0.6), OFF, OFF]}, envelope=env(1, 3000, 0.0, 500))),
        sound("Drawbar organ", "keys", "sustained", "Nine pipes from a table, with a slow turning of the pan.",
              layer("Pipes", "body", "wavetable", {"table": "drawbars", "position": 0.7}, envelope=env(6, 50, 1.0, 60), lfos=({"rate": 1.1}, {}), routes=[route("lfo1", "pan_pct", 18)])),
        sound("Soft keys", "keys", "mellow", "A hollow table that closes as it dies.",
              layer("Keys", "body", "wavetable", {"table": "hollow", "position": 0.4}, envelope=env(2, 1600, 0.2, 260), filter=low(900, 0.1, opens=1.6, envelope=env(0, 500, 0.2, 300), key_follow=0.5), routes=[route("amp", "sound.position", 0.3)])),
        sound("Off-beat stab", "keys", "stab short", "A pulse with a quick filter, for chords between the beats.",
              layer("Stab", "body", "oscillator", {"shape": "pulse", "pulse_width": 35, "shape_b": "saw", "mix_b": 45, "b_cents": 9}, envelope=env(1, 220, 0.0, 70), filter=low(600, 0.25, opens=3.0, envelope=env(0, 120, 0.0, 60)))),
        sound("Glass bells", "keys", "bells fm", "Ratios 1, 2.76 and 5.4, as of struck bars.",
              layer("Bars", "body", "fm", {"algorithm": "side by side", "operators": [op(1, decay=2600, sustain=0.0, velocity=0.2), op(2.76, level=0.5, decay=1300, sustain=0.0, velocity=0.5), op(5.4, level=0.3, decay=600, sustain=0.0, velocity=0.8), op(8.93, level=0.15, decay=250, sustain=0.0, velocity=0.95)]}, envelope=env(0, 3000, 0.0, 700))),
        sound("Plucked glass", "keys", "pluck bright", "A glassy table with an envelope of 200 ms and a high click.",
              layer("Glass", "body", "wavetable", {"table": "glassy", "position": 0.35}, envelope=env(1, 420, 0.0, 200), routes=[route("amp", "sound.position", -0.3)]),
              layer("Tick", "attack", "noise", {"low_hz": 6000, "width_pct": 0}, envelope=env(0, 10, 0.0, 8), level_db=-22)),
        sound("Upright piano", "keys", "hammer strings", "Stiff strings in three, of which two ring on: quickly, then slowly.",
              layer("Strings", "body", "string", {"pick": 0.12, "brightness": 0.62, "damping": 0.3, "decay_s": 3.2, "stiffness": 0.8, "aftersound": 0.9, "body": 0.35, "body_hz": 140, "velocity": 0.8}, envelope=env(1, 100, 1.0, 180)),
              layer("Hammer", "attack", "noise", {"low_hz": 300, "high_hz": 2200, "width_pct": 0}, envelope=env(0, 22, 0.0, 12), level_db=-24)),
        sound("Wiry keys", "keys", "funky wiry", "A damped, bright string under a narrow resonance.",
              layer("Wire", "body", "string", {"pick": 0.05, "brightness": 0.9, "damping": 0.12, "decay_s": 1.6, "body": 0.25, "body_hz": 620, "velocity": 0.8}, envelope=env(0, 100, 1.0, 40), chain=[{"kind": "eq", "bands": [{"shape": "low_cut", "freq_hz": 160}, {"freq_hz": 1800, "gain_db": 5, "q": 1.4}]}])),
        sound("Toy piano", "keys", "bars small", "Short bars at odd ratios, bright and a little sour.",
              layer("Bars", "body", "fm", {"algorithm": "side by side", "operators": [op(1, decay=420, sustain=0.0), op(3.01, level=0.5, decay=260, sustain=0.0, velocity=0.7), op(6.27, level=0.25, decay=110, sustain=0.0, velocity=0.9), OFF]}, envelope=env(0, 800, 0.0, 200))),
        sound("Marimba", "keys", "wood mallet", "Wooden bars tuned to the double octave, struck with yarn.",
              layer("Bar", "body", "fm", {"algorithm": "side by side", "operators": [op(1, decay=520, sustain=0.0), op(3.98, level=0.3, decay=330, sustain=0.0, attack=3, velocity=0.8), op(9.9, level=0.05, decay=160, sustain=0.0, attack=3, velocity=0.9), OFF]}, envelope=env(2, 900, 0.0, 250))),
        sound("Reed organ", "keys", "bellows slow", "Reeds that speak slowly and never die.",
              layer("Reeds", "body", "oscillator", {"shape": "pulse", "pulse_width": 22, "shape_b": "pulse", "mix_b": 40, "b_cents": 6}, envelope=env(60, 200, 0.9, 110), filter=low(2400, 0.12))),
    ]  # fmt: skip


def leads() -> list[SavedSound]:
    vibrato: tuple[dict[str, float], dict[str, float]] = ({"rate": 5.2, "delay_ms": 350, "rise_ms": 400}, {})
    return [
        sound("Reed lead", "lead", "mono warm", "A narrow pulse and a saw; vibrato comes in after a third of a second.",
              layer("Reed", "body", "oscillator", {"shape": "pulse", "pulse_width": 34, "shape_b": "saw", "mix_b": 35, "b_cents": 6}, envelope=env(12, 400, 0.75, 160), filter=low(2600, 0.2, opens=0.8, key_follow=0.4), lfos=vibrato, routes=[route("lfo1", "pitch", 0.25)]),
              voices={"mode": "legato", "glide_ms": 45}),
        sound("Wide saws", "lead", "wide bright", "Seven saws, spread over both sides, with air above them.",
              layer("Saws", "body", "oscillator", {"shape": "saw", "unison": 7, "detune_cents": 24, "spread_pct": 80}, envelope=env(4, 300, 0.8, 180), filter=low(9000, 0.05)),
              layer("Air", "air", "noise", {"low_hz": 8000}, envelope=env(10, 300, 0.5, 200), level_db=-26)),
        sound("Whistle", "lead", "pure", "A sine with breath, gliding like a person does.",
              layer("Tone", "body", "oscillator", {"shape": "sine"}, envelope=env(40, 100, 0.95, 120), lfos=vibrato, routes=[route("lfo1", "pitch", 0.3)]),
              layer("Breath", "air", "noise", {"low_hz": 6000, "high_hz": 14000, "width_pct": 40}, envelope=env(25, 150, 0.4, 90), level_db=-28),
              voices={"mode": "legato", "glide_ms": 70}),
        sound("Blown brass", "lead", "brass", "A table that grows brighter with the level, as brass does when blown harder.",
              layer("Brass", "body", "wavetable", {"table": "brass", "position": 0.15}, envelope=env(55, 300, 0.8, 120), routes=[route("amp", "sound.position", 0.5), route("velocity", "sound.position", 0.25)], bend={"attack_ms": 0, "decay_ms": 60, "sustain": 0.0}, bend_semitones=-0.6)),
        sound("Nose lead", "lead", "nasal cutting", "A narrow resonance that moves with macro 1: bright and through the nose.",
              layer("Nose", "body", "wavetable", {"table": "nasal", "position": 0.3}, envelope=env(5, 300, 0.8, 100), routes=[route("macro1", "sound.position", 0.6)]), macros=("Nose", "", "", "")),
        sound("Feedback lead", "lead", "fm rough", "An operator that bends itself until it is a saw, then a little more.",
              layer("Rough", "body", "fm", {"algorithm": "side by side", "feedback": 1.1, "operators": [op(1, level=0.5), OFF, OFF, op(1, level=0.8)]}, envelope=env(6, 300, 0.85, 110), filter=low(5000, 0.1))),
        sound("Soft pluck", "lead", "pluck short", "A saw that closes in 150 ms; harder notes open it by two octaves.",
              layer("Pluck", "body", "oscillator", {"shape": "saw", "shape_b": "saw", "mix_b": 50, "b_cents": 8}, envelope=env(1, 350, 0.0, 180), filter=low(500, 0.2, opens=2.0, envelope=env(0, 150, 0.0, 100), key_follow=0.5), routes=[route("velocity", "filter.cutoff_hz", 2.0)])),
        sound("Brass stab", "lead", "stab brass", "Short and hard, with the filter opening late.",
              layer("Stab", "body", "oscillator", {"shape": "saw", "unison": 3, "detune_cents": 16, "spread_pct": 40}, envelope=env(8, 260, 0.3, 90), filter=low(700, 0.15, opens=2.8, envelope=env(40, 180, 0.2, 80)))),
        sound("Glide saw", "lead", "mono sliding", "One saw that slides from note to note, half open.",
              layer("Saw", "body", "oscillator", {"shape": "saw"}, envelope=env(6, 500, 0.85, 110), filter=low(1700, 0.35, opens=1.2, key_follow=0.5)),
              voices={"mode": "legato", "glide_ms": 90}),
        sound("Chip lead", "lead", "square small", "A bare square with a quick vibrato, from few bits.",
              layer("Chip", "body", "oscillator", {"shape": "pulse", "pulse_width": 25}, envelope=env(0, 140, 0.55, 30), filter=low(7000), lfos=({"rate": 6.5, "delay_ms": 200, "rise_ms": 100}, {}), routes=[route("lfo1", "pitch", 0.2)], chain=[{"kind": "bit_reducer", "bits": 8}])),
        sound("Bowed lead", "lead", "slow strings", "Saws that are bowed in: slow to speak, with vibrato.",
              layer("Bow", "body", "oscillator", {"shape": "saw", "unison": 3, "detune_cents": 12, "spread_pct": 40}, envelope=env(140, 400, 0.85, 240), filter=low(2000, 0.1, opens=0.9, envelope=env(160, 600, 0.6, 200), key_follow=0.5), lfos=vibrato, routes=[route("lfo1", "pitch", 0.2)])),
    ]  # fmt: skip


def pads() -> list[SavedSound]:
    slow = env(350, 600, 0.85, 700)
    return [
        sound("Wide pad", "pad", "wide slow", "Saws in unison, closed at 1.5 kHz, opening slowly.",
              layer("Saws", "width", "oscillator", {"shape": "saw", "unison": 5, "detune_cents": 22, "spread_pct": 90}, envelope=slow, filter=low(1500, 0.1, opens=0.7, envelope=env(900, 1500, 0.4, 600)))),
        sound("Glass pad", "pad", "bright still", "A table of single high partials that drifts.",
              layer("Harp", "body", "wavetable", {"table": "glass harp", "position": 0.4, "unison": 3, "detune_cents": 10}, envelope=slow, lfos=({"shape": "drift", "rate": 0.25, "mode": "free"}, {}), routes=[route("lfo1", "sound.position", 0.35)])),
        sound("Choir pad", "pad", "voice wide", "Six sing ah, each a little out of tune, and breathe.",
              layer("Singers", "body", "formant", {"voice": "woman", "vowel": "ah", "vowel_to": "oo", "singers": 6, "effort": 0.35, "breath_db": -30}, envelope=slow, lfos=({"shape": "drift", "rate": 0.2, "mode": "free"}, {}), routes=[route("lfo1", "sound.blend", 0.4)])),
        sound("Dark pad", "pad", "dark warm", "A triangle and a wide pulse, closed at 500 Hz.",
              layer("Warm", "body", "oscillator", {"shape": "triangle", "shape_b": "pulse", "mix_b": 40, "b_cents": 10, "spread_pct": 60}, envelope=slow, filter=low(500, 0.05))),
        sound("Wires", "pad", "moving metallic", "Groups of partials that come and go by a shared LFO.",
              layer("Wires", "texture", "wavetable", {"table": "wires", "unison": 3, "detune_cents": 14}, envelope=slow, routes=[route("shared1", "sound.position", 0.5)], filter=high(150)),
              layer("Floor", "body", "oscillator", {"shape": "triangle"}, envelope=slow, level_db=-5, routes=[route("shared1", "level_db", 2)]),
              lfos=({"shape": "sine", "mode": "free", "rate": "1/1"}, {"mode": "free"})),
        sound("Breathing pad", "pad", "noise soft", "Pink noise through a moving band over a sine.",
              layer("Tone", "body", "oscillator", {"shape": "sine", "shape_b": "triangle", "mix_b": 50, "b_semitones": 12}, envelope=slow, filter=low(900, 0.05)),
              layer("Breath", "texture", "noise", {"colour": "pink"}, envelope=slow, filter={"mode": "bandpass", "cutoff_hz": 2500, "resonance": 0.6}, level_db=-20, lfos=({"rate": 0.2, "mode": "free"}, {}), routes=[route("lfo1", "filter.cutoff_hz", 1.0)])),
        sound("String section", "pad", "strings wide", "Many saws, bowed softly, a little darker than a lead.",
              layer("Section", "width", "oscillator", {"shape": "saw", "unison": 7, "detune_cents": 16, "spread_pct": 85}, envelope=env(180, 600, 0.9, 500), filter=low(2600, 0.05))),
        sound("Night pad", "pad", "deep slow", "Sines an octave apart, swelling for more than a second.",
              layer("Deep", "body", "oscillator", {"shape": "sine", "shape_b": "triangle", "mix_b": 35, "b_semitones": -12, "unison": 2, "detune_cents": 8, "spread_pct": 70}, envelope=env(1200, 800, 0.9, 1200), filter=low(700, 0.05))),
        sound("Bright swell", "pad", "opening saws", "Saws that open from dark to bright while they are held.",
              layer("Swell", "width", "oscillator", {"shape": "saw", "unison": 5, "detune_cents": 18, "spread_pct": 90}, envelope=env(500, 600, 0.95, 600), filter=low(500, 0.2, opens=3.5, envelope=env(1400, 1500, 0.8, 600)))),
    ]  # fmt: skip


def voices_and_effects() -> list[SavedSound]:
    return [
        sound("Singer", "voice", "solo vowel", "One woman's ah that turns to oo with macro 1; vibrato after half a second.",
              layer("Voice", "body", "formant", {"voice": "woman", "vowel": "ah", "vowel_to": "oo", "effort": 0.6, "breath_db": -40}, envelope=env(60, 200, 0.9, 150), lfos=({"rate": 5.4, "delay_ms": 500, "rise_ms": 500}, {}), routes=[route("lfo1", "pitch", 0.3), route("macro1", "sound.blend", 1.0)]),
              voices={"mode": "legato", "glide_ms": 60}, macros=("Vowel", "", "", "")),
        sound("Low choir", "voice", "men slow", "Five men on oo, dark.",
              layer("Men", "body", "formant", {"voice": "man", "vowel": "oo", "vowel_to": "ah", "singers": 5, "effort": 0.4, "breath_db": -36}, envelope=env(150, 300, 0.9, 400))),
        sound("Talking table", "voice", "vowel synthetic", "A table from ah to ee, read to and fro in quarters.",
              layer("Mouth", "body", "wavetable", {"table": "ah to ee", "position": 0.5}, envelope=env(10, 200, 0.9, 120), lfos=({"shape": "triangle", "rate": "1/4"}, {}), routes=[route("lfo1", "sound.position", 0.5)])),
        sound("Rising noise", "effect", "riser", "A band of noise that climbs four octaves while the note is held.",
              layer("Riser", "texture", "noise", {}, envelope=env(1800, 100, 1.0, 200, attack_curve=-0.4), filter={"mode": "bandpass", "cutoff_hz": 400, "resonance": 0.55}, routes=[route("amp", "filter.cutoff_hz", 4.5)])),
        sound("Quickening riser", "effect", "riser pulses", "Saws whose tremolo climbs from eighths to thirty-seconds over two bars.",
              layer("Saws", "body", "oscillator", {"shape": "saw", "unison": 5, "detune_cents": 30, "spread_pct": 80}, envelope=env(900, 100, 1.0, 150), filter=low(700), lfos=({"shape": "square", "rate": "1/8", "rate_to": "1/32", "climb": "2/1"}, {}), routes=[route("lfo1", "level_db", 9), route("amp", "filter.cutoff_hz", 2.5)], level_db=-6)),
        sound("Falling tone", "effect", "fall", "A table that falls two octaves in a second and a half.",
              layer("Fall", "body", "wavetable", {"table": "bright", "position": 0.4, "unison": 3}, envelope=env(2, 1500, 0.0, 300), bend={"attack_ms": 0, "decay_ms": 1500, "sustain": 0.0, "decay_curve": 0.2}, bend_semitones=24, transpose_semitones=-24)),
        sound("Impact", "effect", "hit boom", "A long kick, a crash of noise and a room of their own.",
              layer("Boom", "sub", "drum", {"model": "kick", "tune_hz": 41.2, "drop_semitones": 18, "drop_ms": 40, "decay_ms": 1500, "click_db": -20}),
              layer("Crash", "texture", "noise", {"low_hz": 400, "high_hz": 9000}, envelope=env(1, 1400, 0.0, 400), level_db=-14, chain=[{"kind": "reverb", "space": "hall", "decay_s": 2.4, "mix": 0.4}])),
        sound("Plain alto", "voice", "solo pure", "One voice from oo to ee, without vibrato and with little breath.",
              layer("Voice", "body", "formant", {"voice": "woman", "vowel": "oo", "vowel_to": "ee", "effort": 0.45, "breath_db": -44}, envelope=env(90, 300, 0.9, 220))),
        sound("Whispered crowd", "voice", "whisper breath", "Six that hardly give voice: breath in the shape of vowels.",
              layer("Crowd", "texture", "formant", {"voice": "woman", "vowel": "ee", "vowel_to": "ah", "singers": 6, "effort": 0.15, "breath_db": -8}, envelope=env(220, 400, 0.8, 350), lfos=({"shape": "drift", "rate": 0.6, "mode": "free"}, {}), routes=[route("lfo1", "sound.blend", 0.5)])),
        sound("Reversed swell", "effect", "swell back", "Metal that comes from nothing and stops, as if played backwards.",
              layer("Swell", "texture", "noise", {"low_hz": 2500}, envelope=env(1400, 10, 1.0, 30, attack_curve=0.7), chain=[{"kind": "phaser", "rate": "1/2", "mix": 0.5}])),
        sound("Laser", "effect", "zap falling", "Four octaves down in a fifth of a second.",
              layer("Zap", "body", "oscillator", {"shape": "saw"}, envelope=env(0, 260, 0.0, 60), filter=low(6000, 0.4), bend={"attack_ms": 0, "decay_ms": 200, "sustain": 0.0, "decay_curve": -0.4}, bend_semitones=48, transpose_semitones=-12)),
    ]  # fmt: skip
