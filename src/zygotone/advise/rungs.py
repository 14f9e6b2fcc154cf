"""The rungs that ladders are made of, from the least harmful: level, time, octave, polarity, carving, place, dips, dropping."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from zygotone.advise.hearing import Hearing
from zygotone.advise.kick_and_bass import in_db, in_ms
from zygotone.advise.ladder import Rung
from zygotone.dsp.filters import SosStereo, bandpass_sos
from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.types import Stereo
from zygotone.measure.stereo import side_share
from zygotone.session.automation import Lane, Point
from zygotone.session.edits import (
    change_device,
    change_strip,
    insert_device,
    make_id,
    new_device,
    put_lane,
    remove_device,
)
from zygotone.session.models import LEVEL, ClipSource, InstrumentSource, KeyInput, Session, Strip, Track

Bars = tuple[int, int]  # first and last bar of the section, from 0

_RAMP_BEATS = 0.25
DEEPEST_LEVEL_DB, DEEPEST_CARVE_DB, DEEPEST_DIP_DB, DEEPEST_DUCK_DB = -6.0, -9.0, -12.0, -9.0


def bars_words(hearing: Hearing, bars: Bars) -> str:
    """Bars of the section, as they are counted in the song."""
    first, last = (hearing.first_bar + bar for bar in bars)
    return f"bar {first}" if first == last else f"bars {first}–{last}"


def level(
    hearing: Hearing, strip: Strip, bars: Bars | None, *, most_db: float = DEEPEST_LEVEL_DB, school: str = "level first"
) -> Rung:
    """Turn a strip down (or, with ``most_db`` above 0, up), only in the bars concerned, by its level's automation."""
    label = "Turn it down" if most_db < 0.0 else "Turn it up"
    session, section = hearing.session, hearing.section
    if any(
        lane.strip == strip.id and lane.device is None and lane.param == LEVEL.name and lane.moves
        for lane in session.lanes
    ):
        return Rung.refused(label, school, f"the level of {strip.name} is automated already; change that")
    room = (LEVEL.high if most_db > 0.0 else LEVEL.low) - strip.level_db
    deepest = max(most_db, room) if most_db < 0.0 else min(most_db, room)
    if abs(deepest) < 0.5:
        return Rung.refused(label, school, f"the level of {strip.name} has no room left")

    def make(amount: float) -> Session:
        return put_lane(session, _level_lane(session, strip, section.id, bars, round(amount, 1)))

    return Rung(
        in_db=True, label=label, school=school, make=make, deepest=deepest,
        detail=lambda amount: f"{strip.name} {in_db(amount)} in {section.name if bars is None else bars_words(hearing, bars)}",
    )  # fmt: skip


def _level_lane(session: Session, strip: Strip, section_id: str, bars: Bars | None, change_db: float) -> Lane:
    """From the fader's value to the changed one at the first bar concerned, and back after the last, within a quarter beat."""
    base, per_bar = strip.level_db, session.song.bar_beats
    first, end = session.song.beats_of(section_id)
    to = float(np.clip(base + change_db, LEVEL.low, LEVEL.high))
    start, stop = (0.0, end - first) if bars is None else (bars[0] * per_bar, (bars[1] + 1) * per_bar)
    points = []
    if start > 0.0:
        points += [Point(beat=0.0, value=base), Point(beat=start - _RAMP_BEATS, value=base)]
    points.append(Point(beat=start, value=to))
    if stop < end - first:
        points += [Point(beat=stop - _RAMP_BEATS, value=to), Point(beat=stop, value=base)]
    lane_id = make_id(f"level {strip.id}", (lane.id for lane in session.lanes))
    return Lane(id=lane_id, strip=strip.id, param=LEVEL.name, section=section_id, points=tuple(points))


def fader(hearing: Hearing, strip: Strip, most_db: float, *, school: str = "level first") -> Rung:
    """The fader, for the whole song."""
    label = "Turn it down" if most_db < 0.0 else "Turn it up"
    room = (LEVEL.high if most_db > 0.0 else LEVEL.low) - strip.level_db
    deepest = max(most_db, room) if most_db < 0.0 else min(most_db, room)

    def make(amount: float) -> Session:
        return change_strip(hearing.session, strip.id, level_db=round(strip.level_db + amount, 2))

    if abs(deepest) < 0.2:
        return Rung.refused(label, school, f"the level of {strip.name} has no room left")
    return Rung(
        in_db=True, label=label, school=school, make=make, deepest=deepest, detail=lambda a: f"{strip.name} {in_db(a)}"
    )


def nudge(hearing: Hearing, track: Track, ms: float, *, label: str = "Move it in time") -> Rung:
    to = round(track.nudge_ms + ms, 2)
    if abs(to) > 200.0:
        return Rung.refused(label, "timing first", f"it would have to move by {in_ms(to)}, more than 200 ms")
    return Rung(
        label=label, school="timing first", whole=True, detail=lambda _: f"{track.name} {in_ms(ms)}",
        make=lambda _: change_strip(hearing.session, track.id, nudge_ms=to),
    )  # fmt: skip


def octave(hearing: Hearing, track: Strip, steps: int) -> Rung:
    """The part of this section an octave up or down."""
    label = "Octave up" if steps > 0 else "Octave down"
    if not isinstance(track, Track) or not isinstance(track.source, InstrumentSource):
        return Rung.refused(label, "arrange", f"{track.name} is audio; its part cannot be put elsewhere")
    here = [p for p in track.parts if p.section == hearing.section.id]
    if not here:
        return Rung.refused(label, "arrange", f"{track.name} has no part of its own in {hearing.section.name}")
    moved = [p.transpose_semitones + 12 * steps for p in here]
    pitches = [n.pitch for f in track.source.phrases for n in f.notes if f.id in {p.phrase for p in here}]
    if not all(-24 <= m <= 24 for m in moved) or not all(
        0 <= q + max(moved) <= 127 and q + min(moved) >= 0 for q in pitches
    ):
        return Rung.refused(label, "arrange", f"the part of {track.name} has no free octave there")
    parts = tuple(
        p.replace(transpose_semitones=p.transpose_semitones + 12 * steps) if p.section == hearing.section.id else p
        for p in track.parts
    )
    return Rung(
        label=label, school="arrange", whole=True, detail=lambda _: f"{track.name} in {hearing.section.name}",
        make=lambda _: change_strip(hearing.session, track.id, parts=parts),
    )  # fmt: skip


def higher_inversion(hearing: Hearing, track: Track, under_hz: float) -> Rung:
    """Notes under a frequency an octave up, so that the chord keeps its notes."""
    label = "Invert the chords"
    if not isinstance(track.source, InstrumentSource):
        return Rung.refused(label, "arrange", f"{track.name} is audio; its notes cannot be put elsewhere")
    a4 = hearing.session.song.a4_hz
    lowest = 69.0 + 12.0 * math.log2(under_hz / a4)
    here = {p.phrase for p in track.parts if p.section == hearing.section.id}
    low = [n for f in track.source.phrases if f.id in here for n in f.notes if n.pitch < lowest]
    if not low:
        return Rung.refused(label, "arrange", f"no note of {track.name} lies so low here")
    source = track.source
    phrases = tuple(
        f.replace(notes=tuple(n.replace(pitch=n.pitch + 12) if n.pitch < lowest else n for n in f.notes))
        if f.id in here
        else f
        for f in source.phrases
    )
    return Rung(
        label=label, school="arrange", whole=True, detail=lambda _: f"{len(low)} notes of {track.name} an octave up",
        make=lambda _: change_strip(hearing.session, track.id, source=source.replace(phrases=phrases)),
    )  # fmt: skip


def polarity(hearing: Hearing, track: Strip) -> Rung:
    device = new_device(track, "gain", label="Turned over", polarity=True)
    return Rung(
        label="Turn over its polarity", school="timing first", whole=True, detail=lambda _: track.name,
        make=lambda _: insert_device(hearing.session, track.id, device, 0),
    )  # fmt: skip


def _centre(band: tuple[float, float]) -> tuple[float, float]:
    """Centre and Q of a bell over a band."""
    low, high = band
    hz = math.sqrt(low * high)
    return round(hz, 1 if hz < 1000 else 0), round(float(np.clip(hz / max(high - low, 1e-9), 0.5, 8.0)), 2)


def in_hz(hz: float) -> str:
    return f"{hz / 1000:.1f} kHz" if hz >= 1000.0 else f"{hz:.0f} Hz"


def carve(
    hearing: Hearing,
    strip: Strip,
    band: tuple[float, float],
    *,
    label: str = "Carve a seat",
    deepest_db: float = DEEPEST_CARVE_DB,
) -> Rung:
    hz, q = _centre(band)

    def make(amount: float) -> Session:
        bell = {"shape": "bell", "freq_hz": hz, "gain_db": round(amount, 1), "q": q}
        return insert_device(hearing.session, strip.id, new_device(strip, "eq", label=label, bands=[bell]))

    return Rung(
        in_db=True, label=label, school="carve", make=make, deepest=deepest_db,
        detail=lambda a: f"{strip.name}: bell {in_db(a)} at {in_hz(hz)}, Q {q:.1f}",
    )  # fmt: skip


def shelf(hearing: Hearing, strip: Strip, shape: str, hz: float, deepest_db: float, *, label: str) -> Rung:
    def make(amount: float) -> Session:
        band = {"shape": shape, "freq_hz": round(hz), "gain_db": round(amount, 1)}
        return insert_device(hearing.session, strip.id, new_device(strip, "eq", label=label, bands=[band]))

    words = "above" if shape == "high_shelf" else "below"
    return Rung(
        in_db=True,
        label=label,
        school="carve",
        make=make,
        deepest=deepest_db,
        detail=lambda a: f"{strip.name} {in_db(a)} {words} {in_hz(hz)}",
    )


def cut(
    hearing: Hearing, strip: Strip, shape: str, hz: float, *, slope: int = 24, label: str, first: bool = False
) -> Rung:
    """A low or high cut; ``first``: before the rest of the chain."""
    band = {"shape": shape, "freq_hz": round(hz, 1), "slope_db_oct": slope}
    device = new_device(strip, "eq", label=label, bands=[band])
    return Rung(
        label=label, school="carve", whole=True, detail=lambda _: f"{strip.name} {'below' if shape == 'low_cut' else 'above'} {in_hz(hz)}, {slope} dB an octave",
        make=lambda _: insert_device(hearing.session, strip.id, device, 0 if first else None),
    )  # fmt: skip


def aside(hearing: Hearing, strip: Strip, beside: Strip) -> Rung:
    """Out of the way of another: wider where it is wide, else panned to the side that the other leaves."""
    label, school = "Move it aside", "place"
    stem = hearing.stem(strip.id)
    share = side_share(stem)
    if share > 0.08:

        def wider(amount: float) -> Session:
            device = new_device(strip, "width", label=label, width_pct=round(100.0 + amount), keep_below_hz=200.0)
            return insert_device(hearing.session, strip.id, device)

        return Rung(
            label=label,
            school=school,
            make=wider,
            deepest=100.0,
            digits=0,
            detail=lambda a: f"{strip.name} 100 → {100 + a:.0f} % wide",
        )
    if abs(strip.pan_pct) >= 85.0:
        return Rung.refused(label, school, f"{strip.name} is at the side already")
    right = strip.pan_pct > 0.0 or (strip.pan_pct == 0.0 and beside.pan_pct <= 0.0)
    deepest = (100.0 - strip.pan_pct) if right else (-100.0 - strip.pan_pct)

    def panned(amount: float) -> Session:
        return change_strip(hearing.session, strip.id, pan_pct=round(strip.pan_pct + amount))

    return Rung(
        label=label, school=school, make=panned, deepest=0.85 * deepest, digits=0,
        detail=lambda a: f"{strip.name} {abs(strip.pan_pct + a):.0f} % {'right' if strip.pan_pct + a > 0 else 'left'}",
    )  # fmt: skip


def key_level_db(audio: Stereo, rate_hz: int, band: tuple[float, float] | None) -> float:
    """The level that a key mostly has while it sounds, in dB: frames of 50 ms within 20 dB of its loudest, their median."""
    if band is not None:
        hz, q = _centre(band)
        audio = SosStereo(bandpass_sos(hz, q, sample_rate_hz=rate_hz)).process(np.ascontiguousarray(audio))
    width = max(1, round(0.05 * rate_hz))
    n = audio.shape[1] // width
    if n == 0:
        return -60.0
    peaks = gain_to_db(np.max(np.abs(audio[:, : n * width]), axis=0).reshape(n, width).max(axis=1))
    return float(np.median(peaks[peaks > peaks.max() - 20.0]))


def dip(hearing: Hearing, strip: Strip, key: Strip, band: tuple[float, float]) -> Rung:
    """A bell that opens only while another speaks."""
    own = key.id == strip.id  # then it listens to what comes into it
    label, school = "Dip only when it is loud" if own else f"Dip only while {key.name} speaks", "moving cut"
    if not own and not _may_listen(hearing, key):
        return Rung.refused(label, school, f"{key.name} cannot be listened to")
    hz, q = _centre(band)
    speaks = key_level_db(hearing.chain_out(key.id), hearing.rate_hz, band)

    def make(amount: float) -> Session:
        threshold = round(float(np.clip(speaks + amount - 3.0, -60.0, 0.0)), 1)
        device = new_device(
            strip, "keyed_eq", label="Dip" if own else f"Dip for {key.name}", key=None if own else KeyInput(track=key.id), freq_hz=hz, q=q, range_db=round(amount, 1),
            threshold_db=threshold, attack_ms=5.0, release_ms=140.0,
        )  # fmt: skip
        return insert_device(hearing.session, strip.id, device)

    return Rung(
        in_db=True, label=label, school=school, make=make, deepest=DEEPEST_DIP_DB,
        detail=lambda a: f"{strip.name}: keyed bell {in_db(a)} at {in_hz(hz)}, 140 ms",
    )  # fmt: skip


def duck(hearing: Hearing, strip: Strip, key: Strip) -> Rung:
    """All of it gives way while another speaks."""
    label, school, ratio = f"Duck it under {key.name}", "duck", 3.0
    if not _may_listen(hearing, key):
        return Rung.refused(label, school, f"{key.name} cannot be listened to")
    speaks = key_level_db(hearing.chain_out(key.id), hearing.rate_hz, None)

    def make(amount: float) -> Session:
        depth = round(-amount, 1)
        threshold = round(float(np.clip(speaks - depth / (1.0 - 1.0 / ratio), -60.0, 0.0)), 1)
        device = new_device(
            strip, "compressor", label=f"Duck under {key.name}", key=KeyInput(track=key.id), threshold_db=threshold, ratio=ratio,
            knee_db=0.0, attack_ms=8.0, release_ms=180.0, range_db=depth,
        )  # fmt: skip
        return insert_device(hearing.session, strip.id, device)

    return Rung(
        in_db=True, label=label, school=school, make=make, deepest=DEEPEST_DUCK_DB,
        detail=lambda a: f"{strip.name} {in_db(a)}, {ratio:.0f}:1, release 180 ms",
    )  # fmt: skip


def _may_listen(hearing: Hearing, key: Strip) -> bool:
    return any(t.id == key.id for t in (*hearing.session.tracks, *hearing.session.buses))


def drop_part(hearing: Hearing, strip: Strip) -> Rung:
    """Leave the part out of this section."""
    label, school = "Leave it out here", "arrange"
    if not isinstance(strip, Track):
        return Rung.refused(label, school, f"{strip.name} plays no part of its own")
    left = tuple(p for p in strip.parts if p.section != hearing.section.id)
    if len(left) == len(strip.parts) or (isinstance(strip.source, ClipSource) and not left):
        return Rung.refused(label, school, f"{strip.name} has no part of its own in {hearing.section.name}")
    return Rung(
        label=label, school=school, whole=True, detail=lambda _: f"{strip.name} rests in {hearing.section.name}",
        make=lambda _: change_strip(hearing.session, strip.id, parts=left),
    )  # fmt: skip


def mute(hearing: Hearing, strip: Strip) -> Rung:
    return Rung(
        label="Mute it", school="arrange", whole=True, detail=lambda _: f"{strip.name}, in the whole song",
        make=lambda _: change_strip(hearing.session, strip.id, mute=True),
    )  # fmt: skip


def device_off(hearing: Hearing, strip: Strip, path: str) -> Rung:
    title = strip.device(path).title
    return Rung(
        label=f"Take {title} out", school="less is more", whole=True, detail=lambda _: strip.name,
        make=lambda _: remove_device(hearing.session, strip.id, path),
    )  # fmt: skip


def boosts_out(hearing: Hearing, strip: Strip, band: tuple[float, float]) -> list[Rung]:
    """To take out what lifts a strip just where it is in the way: devices with a curve that is 3 dB up there and more."""
    hz = np.geomspace(*band, 16)
    return [
        device_off(hearing, strip, device.id)
        for device in strip.chain
        if device.on and device.spec.hand_curve is not None
        and float(np.mean(device.spec.hand_curve.response_db(device.params, hz))) > 3.0
    ]  # fmt: skip


def device_to(
    hearing: Hearing,
    strip: Strip,
    path: str,
    param: str,
    to: float,
    *,
    label: str,
    unit: str,
    digits: int = 1,
    whole: bool = False,
) -> Rung:
    """A parameter of a device from where it is towards ``to``."""
    now = float(strip.device(path).params[param])

    def make(amount: float) -> Session:
        changes: dict[str, Any] = {param: round(now + amount, digits)}
        return change_device(hearing.session, strip.id, path, **changes)

    return Rung(
        label=label, school="less is more", make=make, deepest=to - now, digits=digits, whole=whole,
        detail=lambda a: f"{strip.name}: {now:.{digits}f} → {now + a:.{digits}f} {unit}".replace("-", "−"),
    )  # fmt: skip


def put(
    hearing: Hearing,
    strip: Strip,
    kind: str,
    *,
    label: str,
    school: str,
    words: str,
    first: bool = False,
    **values: object,
) -> Rung:
    """A device with settings of its own at the end of a chain, or at its beginning."""
    device = new_device(strip, kind, **dict[str, Any](values, label=label))
    return Rung(
        label=label, school=school, whole=True, detail=lambda _: words,
        make=lambda _: insert_device(hearing.session, strip.id, device, 0 if first else None),
    )  # fmt: skip
