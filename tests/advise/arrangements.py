"""A clean arrangement, and what is done to it so that one rule finds something: one fault, and the same thing within bounds.

``CASES`` holds, for each rule over tracks, what makes the fault and what is still clean: functions that change a ``Case``.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from tests.advise import material as m
from tests.advise.material import Case
from tests.signals import RATE
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import Bus, ClipSource, Device, Part, Section, Send, Session, Song, Track
from zygotone.session.project_file import Project


def clean() -> Case:
    return Case(
        {
            "Kick": ("kick", 1, m.kick()),
            "Snare": ("snare", 2, m.snare(-30.0)),
            "Hats": ("hats", 6, m.hat()),
            "Bass": ("bass", 3, m.bass()),
            "Keys": ("keys", 6, m.cut_above(m.chords(196.0, -30.0, count=10, slope=1.3), 1500.0)),
            "Lead": ("lead", 1, m.lead()),
        }
    )


def project_of(case: Case, store: AudioStore | None = None) -> Project:
    """Two bars at 120 BPM, one section. What two cases have in common is measured once where they share a store and its renderer."""
    store, assets, tracks = store or AudioStore(), [], []
    buses = tuple(
        Bus(
            id=name.lower(),
            name=name,
            chain=tuple(Device.model_validate({"id": f"d{i}", **d}) for i, d in enumerate(chain)),
        )
        for name, chain in case.buses.items()
    )
    for name, (role, seat, audio) in case.tracks.items():
        data = audio if audio.ndim == 2 else np.stack([audio, audio])
        asset = store.add(AudioData(np.ascontiguousarray(data), RATE, "FLOAT", "WAV"), name, RATE)
        assets.append(asset)
        chain = tuple(Device.model_validate({"id": f"d{i}", **d}) for i, d in enumerate(case.chains.get(name, ())))
        sends = (
            tuple(Send(to=to.lower(), level_db=db) for to, db in [case.sends[name]] if name in case.sends)
            if name in case.sends
            else ()
        )
        tracks.append(
            Track(
                id=name.lower().replace(" ", "-"), name=name, role=role, seat=seat, chain=chain, sends=sends,
                pan_pct=case.pans.get(name, 0.0), source=ClipSource(asset=asset.id), parts=(Part(section="song"),),
            )
        )  # fmt: skip
    session = Session(
        rate_hz=RATE, tracks=tuple(tracks), buses=buses, mix=Bus(id="mix", name="Mix", level_db=case.level_db),
        song=Song(title="Case", tempo_bpm=120.0, key=case.key, sections=(Section(id="song", name="Song", bars=2),)),
        assets=tuple({a.id: a for a in assets}.values()),
    )  # fmt: skip
    return Project(session=session, store=store)


# --- one fault each, and the same thing within bounds ---------------------------------------------------------------

Change = Callable[[Case], None]
CASES: dict[str, tuple[Change, Change]] = {}


def case(rule: str) -> Callable[[Callable[[Case, bool], None]], Callable[[Case, bool], None]]:
    """Enters a function that makes the fault (True), or what comes near it (False)."""

    def entered(change: Callable[[Case, bool], None]) -> Callable[[Case, bool], None]:
        CASES[rule] = (lambda c: change(c, True), lambda c: change(c, False))
        return change

    return entered


def put(c: Case, name: str, audio: np.ndarray, role: str | None = None, seat: int | None = None) -> None:
    old = c.tracks.get(name, ("other", 8, audio))
    c.tracks[name] = (role or old[0], seat or old[1], audio)


@case("kick_bass_clash")
def _(c: Case, fault: bool) -> None:
    c.tracks["Bass"] = (
        "bass",
        3,
        m.at_db(m.partials(50.0 if fault else 110.0, m.N, count=12, slope=1.0), -15.0 if fault else -26.0),
    )


@case("kick_bass_timing")
def _(c: Case, fault: bool) -> None:
    n = m.N // 8
    out = np.zeros(m.N + n)
    gap = round(-0.014 * RATE) if fault else round(0.005 * RATE)
    for i in range(8):
        at = max(0, i * n + gap)
        out[at : at + round(0.3 * RATE)] += m.shaped(m.partials(110.0, round(0.3 * RATE), count=8), 0.004, 0.05)
    put(c, "Bass", m.at_db(out[: m.N], -28.0))


@case("kick_click_buried")
def _(c: Case, fault: bool) -> None:
    pluck = m.hits(
        lambda i: np.concatenate([m.shaped(m.partials(110.0, round(0.3 * RATE), count=10), 0.003), np.zeros(10)]),
        0.5,
        level_db=-28.0,
    )
    snap = m.hits(m.burst(1800, 6000, 0.008, 3), 0.5, level_db=-26.0 if fault else -62.0)
    put(c, "Bass", pluck + snap)


@case("sub_shared")
def _(c: Case, fault: bool) -> None:
    c.tracks["Kick"] = ("kick", 1, m.kick(level_db=-22.0, every_s=2.0))
    c.tracks["Bass"] = ("bass", 3, m.tune(55.0, (0, 2, 3, 0), level_db=-24.0, count=10, slope=0.6))
    sub = np.sin(2 * np.pi * 41.2 * m.T)
    if not fault:
        c.tracks["Bass"] = ("bass", 3, m.cut_below(c.tracks["Bass"][2], 120.0))
    c.tracks["Sub"] = ("sub", 2, m.at_db(m.cut_below(sub, 20.0), -27.0))


@case("bass_indistinct")
def _(c: Case, fault: bool) -> None:
    n = m.N // 8

    def note(i: int) -> np.ndarray:
        f = 46.0 * 2 ** ((0, 3, 5, 2)[i % 4] / 12)
        ramp = np.minimum(1.0, np.arange(n) / n * 2) ** 4
        over = 0.004 if fault else 0.5
        t = np.arange(n) / RATE
        return m.shaped(
            ramp * (np.sin(2 * np.pi * f * t) + over * np.sin(4 * np.pi * f * t) + over * np.sin(6 * np.pi * f * t)),
            0.02,
            0.05,
        )

    put(c, "Bass", m.at_db(np.concatenate([note(i) for i in range(8)]), -26.0))


@case("wide_low")
def _(c: Case, fault: bool) -> None:
    low = m.bass(61.7)
    other = m.bass(62.3) if fault else low
    c.tracks["Bass"] = ("bass", 3, np.stack([low, other]))


@case("rumble")
def _(c: Case, fault: bool) -> None:
    rumble = m.at_db(m.band(m.noise(4), 15, 45), -32.0 if fault else -70.0)
    put(c, "Lead", c.tracks["Lead"][2] + rumble)


@case("rumble_pumps")
def _(c: Case, fault: bool) -> None:
    rumble = m.at_db(m.band(m.noise(4), 15, 40), -16.0 if fault else -60.0)
    put(c, "Lead", c.tracks["Lead"][2] + rumble)
    c.chains["Lead"] = [
        {"kind": "compressor", "threshold_db": -20, "ratio": 4, "attack_ms": 20, "release_ms": 150, "makeup_db": 5},
        {"kind": "eq", "bands": [{"shape": "low_cut", "freq_hz": 200, "slope_db_oct": 24}]},
    ]


@case("bass_too_low")
def _(c: Case, fault: bool) -> None:
    c.tracks["Kick"] = ("kick", 1, m.kick(level_db=-21.0, every_s=2.0))
    hz = 20.0 if fault else 82.0
    x = m.partials(hz, m.N, count=12, slope=1.6 if fault else 0.8)
    t = m.T % 2.0
    put(c, "Bass", m.at_db(x * np.clip(np.minimum((t - 0.6) * 8, (2.0 - t) * 20), 0.0, 1.0), -24.0))


@case("chords_under_bass")
def _(c: Case, fault: bool) -> None:
    low = (
        m.chords(73.4, -27.0, count=10, slope=1.2)
        if fault
        else m.cut_below(m.chords(196.0, -34.0, count=10, slope=1.3), 180.0)
    )
    put(c, "Keys", m.cut_above(low, 700.0 if fault else 1500.0))


@case("kick_off_key")
def _(c: Case, fault: bool) -> None:
    c.key = "C minor"
    put(c, "Kick", m.kick(46.25 if fault else 65.4))  # F♯1 against C, or C2


@case("lead_covered")
def _(c: Case, fault: bool) -> None:
    wall = m.band(m.chords(196.0, -20.0, count=60, slope=0.2), 900, 6000)
    c.tracks["Guitar"] = ("guitar", 5, m.at_db(wall, -22.0 if fault else -33.0))


@case("part_covered")
def _(c: Case, fault: bool) -> None:
    low, high = (150, 1500) if fault else (2500, 7000)
    c.tracks["Pad"] = ("pad", 7, m.at_db(m.band(m.pink(6), low, high), -25.0 if fault else -34.0))


@case("nobody_hears")
def _(c: Case, fault: bool) -> None:
    c.tracks["Pad"] = ("pad", 5, m.at_db(m.band(m.pink(6), 150, 3000), -38.0))
    quiet = m.cut_above(m.chords(220.0, count=8, slope=1.2), 1200.0)
    c.tracks["Bells"] = ("keys", 7, m.at_db(quiet, -70.0 if fault else -30.0))
    if not fault:
        del c.tracks["Pad"], c.tracks["Keys"]


@case("covers_all")
def _(c: Case, fault: bool) -> None:
    x = m.pink(6) if fault else m.band(m.pink(6), 2500, 9000)
    c.tracks["Wash"] = ("pad", 7, m.at_db(x, -20.0 if fault else -36.0))


@case("pile_up")
def _(c: Case, fault: bool) -> None:
    if not fault:
        put(c, "Keys", m.at_db(m.bell(c.tracks["Keys"][2], 320.0, 2.0, 0.8), -30.0))
        return
    for i, (name, role, seat) in enumerate((("Pad", "pad", 7), ("Guitar", "guitar", 5), ("Organ", "keys", 6))):
        x = m.band(m.chords(220.0 * 2 ** (i * 0.02), count=6, slope=1.0), 220, 480)
        c.tracks[name] = (role, seat, m.at_db(x, -22.0))


@case("return_pile_up")
def _(c: Case, fault: bool) -> None:
    c.buses["Room"] = [
        {
            "kind": "eq",
            "bands": [
                {"shape": "low_cut", "freq_hz": 200, "slope_db_oct": 12},
                {"shape": "high_cut", "freq_hz": 500 if fault else 4000},
            ],
        },
        {"kind": "delay", "time": 90, "feedback": 0.2, "mix": 1.0},
    ]
    c.sends["Keys"] = ("Room", 9.0 if fault else -24.0)
    if fault:
        c.sends["Bass"] = ("Room", 9.0)


@case("tail_over_next")
def _(c: Case, fault: bool) -> None:
    c.buses["Hall"] = [{"kind": "reverb", "space": "hall", "decay_s": 6.0 if fault else 0.6, "mix": 1.0}]
    c.sends["Lead"] = ("Hall", 8.0 if fault else -24.0)
    c.sends["Keys"] = ("Hall", 8.0 if fault else -24.0)


@case("two_brights")
def _(c: Case, fault: bool) -> None:
    c.tracks["Hats"] = ("hats", 6, m.at_db(m.band(m.noise(8), 7500, 13000), -38.0))
    c.tracks["Shaker"] = (
        "percussion",
        7,
        m.at_db(m.band(m.noise(9), 7500 if fault else 3000, 13000 if fault else 5000), -38.0),
    )


@case("boxy")
def _(c: Case, fault: bool) -> None:
    c.tracks["Guitar"] = (
        "guitar",
        5,
        m.at_db(m.bell(m.band(m.pink(7), 120, 5000), 480.0, 15.0 if fault else 3.0, 6.0), -32.0),
    )


@case("harsh")
def _(c: Case, fault: bool) -> None:
    x = m.bell(m.band(m.pink(7), 120, 9000), 3300.0, 16.0 if fault else 3.0, 7.0)
    c.tracks["Guitar"] = ("guitar", 5, m.at_db(x, -32.0))


@case("top_too_bright")
def _(c: Case, fault: bool) -> None:
    put(c, "Hats", m.hat(level_db=-20.0 if fault else -35.0))


@case("sibilant")
def _(c: Case, fault: bool) -> None:
    x = m.voice(-24.0)
    s = m.hits(m.burst(5500, 9500, 0.04, 61), 0.5, start_s=0.25, level_db=-24.0 if fault else -50.0)
    c.tracks["Lead"] = ("voice", 1, x + s)


@case("ride_low_part")
def _(c: Case, fault: bool) -> None:
    low = m.at_db(m.band(m.noise(12), 150, 350), -40.0 if fault else -75.0)
    put(c, "Hats", m.hat(level_db=-36.0) + low)


@case("hiss_lifted")
def _(c: Case, fault: bool) -> None:
    hiss = m.at_db(m.band(m.noise(13), 4000, 16000), -72.0 if fault else -105.0)
    part = np.where((m.T % 2.0) < 1.0, 1.0, 0.0)
    put(c, "Lead", m.at_db(m.lead() * part + 1e-9, -22.0) + hiss)
    c.chains["Lead"] = [
        {
            "kind": "compressor",
            "threshold_db": -46,
            "ratio": 3,
            "knee_db": 0,
            "attack_ms": 2,
            "release_ms": 60,
            "makeup_db": 15,
        }
    ]


@case("attack_lost")
def _(c: Case, fault: bool) -> None:
    put(c, "Snare", m.snare(-30.0))
    c.chains["Snare"] = [
        {
            "kind": "compressor",
            "threshold_db": -34,
            "ratio": 8,
            "knee_db": 0,
            "attack_ms": 0.05 if fault else 60,
            "release_ms": 8,
            "makeup_db": 14 if fault else 0,
        }
    ]


@case("limiter_always")
def _(c: Case, fault: bool) -> None:
    c.chains["Lead"] = [{"kind": "limiter", "ceiling_dbtp": -24.0 if fault else -5.0, "release_ms": 200}]


@case("too_flat")
def _(c: Case, fault: bool) -> None:
    x = c.tracks["Snare"][2]
    flat = m.at_db(m.band(m.noise(14), 180, 7000), -40.0) if fault else x
    put(c, "Snare", np.clip(flat, -0.0107, 0.0107) if fault else flat)


@case("too_spiky")
def _(c: Case, fault: bool) -> None:
    bed = m.at_db(m.band(m.pink(15), 300, 2000), -32.0 if not fault else -48.0)
    spikes = m.hits(lambda i: np.hanning(96) * np.sin(np.arange(96) * 0.4), 0.4, level_db=-36.0 if fault else -62.0)
    c.tracks["Guitar"] = ("guitar", 5, bed + spikes)


@case("hit_jumps")
def _(c: Case, fault: bool) -> None:
    gains = (0.0, -1.0, 12.0 if fault else 1.0, 0.5)
    put(c, "Snare", m.snare(-32.0, gains=gains))


@case("varies")
def _(c: Case, fault: bool) -> None:
    ride = np.where((m.T % 4.0) < 2.0, 0.0, -17.0 if fault else -4.0)
    put(c, "Lead", m.lead(-22.0) * 10 ** (ride / 20.0))


@case("gate_chatters")
def _(c: Case, fault: bool) -> None:
    wobble = 0.5 * (1.0 + np.sin(2 * np.pi * 6.0 * m.T))
    x = m.at_db(m.band(m.pink(16), 300, 3000) * (0.3 + wobble), -32.0)
    c.tracks["Guitar"] = ("guitar", 5, x)
    c.chains["Guitar"] = [
        {
            "kind": "gate",
            "threshold_db": -24.0 if fault else -60.0,
            "hysteresis_db": 0.0,
            "hold_ms": 0.0,
            "release_ms": 15.0,
            "attack_ms": 1.0,
            "floor_db": -40.0,
        }
    ]


@case("too_loud")
def _(c: Case, fault: bool) -> None:
    put(c, "Keys", m.at_db(c.tracks["Keys"][2], -22.5 if fault else -34.0), seat=1 if fault else None)
    put(c, "Lead", m.lead(-28.0 if fault else -22.0))
    if fault:
        for name in ("Kick", "Snare", "Bass"):
            put(c, name, 0.5 * c.tracks[name][2])


@case("too_soft")
def _(c: Case, fault: bool) -> None:
    put(c, "Bass", m.bass(level_db=-46.0 if fault else -22.0))


@case("leads_apart")
def _(c: Case, fault: bool) -> None:
    # They take turns.
    put(c, "Lead", m.lead() * (m.T < 2.0))
    c.tracks["Voice"] = ("voice", 1, m.voice(-34.0 if fault else -22.0, 330.0) * (m.T >= 2.0))


@case("backing_over_lead")
def _(c: Case, fault: bool) -> None:
    c.tracks["Lead"] = ("voice", 1, m.voice(-22.0))
    c.tracks["Choir"] = ("voice", 4, m.voice(-23.0 if fault else -30.0, 660.0))


@case("drums_over_all")
def _(c: Case, fault: bool) -> None:
    for name in ("Kick", "Snare"):
        put(c, name, (4.0 if fault else 1.0) * c.tracks[name][2])
    c.level_db = -12.0


@case("leans")
def _(c: Case, fault: bool) -> None:
    c.pans["Lead"] = -45.0 if fault else -6.0
    c.pans["Snare"] = -40.0 if fault else 0.0


@case("leans_in_band")
def _(c: Case, fault: bool) -> None:
    x = m.at_db(m.band(m.pink(17), 170, 350), -23.0 if fault else -32.0)
    other = m.at_db(m.band(m.pink(18), 1500, 6000), -26.0)
    c.tracks["Guitar"] = ("guitar", 5, m.spread(x, other) if fault else m.at_db(m.spread(other, other), -32.0))


@case("mono_loss")
def _(c: Case, fault: bool) -> None:
    x = m.band(m.pink(19), 300, 3000)
    y = -0.85 * x + 0.15 * m.band(m.pink(20), 300, 3000) if fault else m.band(m.pink(20), 300, 3000)
    c.tracks["Guitar"] = ("guitar", 5, m.at_db(m.spread(x, y), -34.0))


@case("inter_sample_peaks")
def _(c: Case, fault: bool) -> None:
    # A quarter of the rate, an eighth of a period off: its samples stand at 0.707 of its peaks (EBU Tech 3341, case 15).
    x = (
        np.sin(2 * np.pi * RATE / 4 * m.T + np.pi / 4)
        * np.exp(-(((m.T - 4.0) / 0.002) ** 2))
        * (1.38 if fault else 0.2)
    )
    c.tracks["Blip"] = ("effect", 8, x)
    c.level_db = 0.0 if fault else -6.0
    for name in ("Kick", "Snare", "Hats", "Bass", "Keys", "Lead"):
        put(c, name, c.tracks[name][2] * (0.02 if fault else 1.0))


@case("offset")
def _(c: Case, fault: bool) -> None:
    put(c, "Keys", c.tracks["Keys"][2] + (0.03 if fault else 0.0005))


@case("clicks")
def _(c: Case, fault: bool) -> None:
    x = m.lead().copy()
    if fault:
        for at in (0.63, 1.71, 3.4):
            x[round(at * RATE) :] *= -1.0
            x[round(at * RATE)] += 0.2
    put(c, "Lead", x)


@case("doubles_cancel")
def _(c: Case, fault: bool) -> None:
    x = m.band(m.chords(220.0, -40.0, count=12, slope=0.9), 200, 3000)
    c.tracks["Guitar A"] = ("guitar", 5, m.at_db(x, -32.0 if fault else -28.0))
    if not fault:
        del c.tracks["Keys"]
    y = -0.9 * x if fault else m.band(m.pink(21), 1500, 6000)
    c.tracks["Guitar B"] = ("guitar", 5, m.at_db(y, -33.0))


@case("clips")
def _(c: Case, fault: bool) -> None:
    put(c, "Snare", c.tracks["Snare"][2] * (12.0 if fault else 1.0))
    if fault:
        c.level_db = -24.0
