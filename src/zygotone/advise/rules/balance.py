"""Balance: tracks out of their usual place, lead against voice, backing, drums; pictures that lean; mono; peaks, offset, clicks; doubles
that cancel."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable

import numpy as np

from zygotone.advise import rungs
from zygotone.advise.checks import Check, Measured, all_strips, enter, the_mix, tracks_without
from zygotone.advise.findings import Finding, Subject
from zygotone.advise.hearing import Hearing
from zygotone.advise.ladder import Rung
from zygotone.advise.norms import DRUMS, LEADS, USUAL
from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.polyphase import Single
from zygotone.dsp.types import FloatArray
from zygotone.measure.layers import best_alignment, layer_cancel, likeness, lowered
from zygotone.measure.levels import clicks
from zygotone.measure.loudness import true_peak
from zygotone.session.edits import change_strip, insert_device, new_device
from zygotone.session.models import Session, Track

# --- place ---------------------------------------------------------------------------------------------------------


def anchor_of(hearing: Hearing) -> Track | None:
    """What all others are judged against: the loudest lead or voice of the best seat that sounds; none where there is none."""
    leads = [
        t
        for t in hearing.session.with_role(*LEADS)
        if not t.mute and hearing.sounds(t.id) and math.isfinite(hearing.lufs(t.id))
    ]
    if not leads:
        return None
    best = min(t.seat for t in leads)
    return max((t for t in leads if t.seat == best), key=lambda t: _in_mix(hearing, t))


def _in_mix(hearing: Hearing, track: Track) -> float:
    """Loudness of a track, its group's fader included."""
    return hearing.lufs(track.id) + (hearing.session.strip(track.bus).level_db if track.bus is not None else 0.0)


def _places(hearing: Hearing, anchor: Track) -> dict[str, tuple[float, float, float]]:
    """Loudness against the anchor, and from where to where it usually lies, of each other track that has a usual place."""
    found = {}
    for track in hearing.session.tracks:
        if track.mute or track.role not in USUAL or track.role in LEADS or not hearing.sounds(track.id):
            continue
        lu = _in_mix(hearing, track) - _in_mix(hearing, anchor)
        if math.isfinite(lu):
            found[track.id] = (lu, *USUAL[track.role].place_lu)
    return found


_SEVERAL = 3  # tracks that all are out of place to one side before it is the anchor that is


def _anchor_low_by(hearing: Hearing, anchor: Track) -> float:
    """How much louder the anchor would have to be for as many others as can be to have their usual place; 0 where most of them have it
    as it is. Where nearly all are too loud against one, it is that one that is too soft."""

    def work() -> float:
        places = [*_places(hearing, anchor).values()]

        def out(by: float) -> int:
            return sum(not low - 1.0 <= lu - by <= high + 1.0 for lu, low, high in places)

        now = out(0.0)
        if now < _SEVERAL or now < 0.5 * len(places):
            return 0.0
        edges = [lu - edge for lu, *both in places for edge in both]
        return min((by for by in edges if out(by) <= now - _SEVERAL), key=lambda by: (out(by), abs(by)), default=0.0)

    return hearing.once(f"anchor {anchor.id} is low by", work)


def _out_of_place(hearing: Hearing, subject: Subject, *, over: bool) -> Measured | None:
    track, anchor = hearing.session.track(subject[0]), anchor_of(hearing)
    if anchor is None:
        return None
    low_by = _anchor_low_by(hearing, anchor)
    how = "loud" if over else "soft"
    if track.id == anchor.id:
        return Measured(
            value=-low_by if over else low_by, evidence={"loudness_lufs": hearing.lufs(track.id)},
            sentence=f"{track.name} is too {how}: most others are {abs(low_by):.0f} LU {'under' if over else 'over'} their usual place against it",
            advice="It is what the others are judged by. If it is meant, accept it with a reason.",
        )  # fmt: skip
    if track.id not in (places := _places(hearing, anchor)):
        return None
    lu, low, high = places[track.id]
    return Measured(
        value=lu - low_by - high if over else low - (lu - low_by),
        evidence={"loudness_lufs": hearing.lufs(track.id)},
        sentence=f"{track.name} is too {how} for {_a(track.role)}: {_signed(lu)} LU against {anchor.name}",
        advice=f"Usual is {_signed(low)} to {_signed(high)} LU. If it is meant, accept it with a reason.",
    )


def _a(role: str) -> str:
    return role if role in ("hats", "keys", "percussion") else f"a {role}"


def _signed(value: float) -> str:
    return f"{value:+.0f}".replace("-", "−")


def _fader(most_db: float) -> Callable[[Hearing, Finding], list[Rung]]:
    def made(hearing: Hearing, finding: Finding) -> list[Rung]:
        strip = hearing.session.strip(finding.tracks[0])
        return [rungs.level(hearing, strip, finding.bars, most_db=most_db), rungs.fader(hearing, strip, most_db)]

    return made


enter(
    Check(
        name="too_loud", title="A track over its usual place", quantity="over_place_lu", threshold=1.0, strong=10.0, target=0.0,
        source="common practice", stage="fit", over="mix", subjects=tracks_without("effect", "other"), measure=functools.partial(_out_of_place, over=True),
        rungs=_fader(-12.0), reads=("loudness_lufs",),
    )
)  # fmt: skip
enter(
    Check(
        name="too_soft", title="A track under its usual place", quantity="under_place_lu", threshold=1.0, strong=12.0, target=0.0,
        source="common practice", stage="fit", over="mix", subjects=tracks_without("effect", "other"), measure=functools.partial(_out_of_place, over=False),
        rungs=_fader(12.0), reads=("loudness_lufs",),
    )
)  # fmt: skip


def _two_leads(session: Session) -> list[Subject]:
    leads = [t for t in session.with_role("lead") if not t.mute]
    voices = [t for t in session.with_role("voice") if not t.mute]
    return [(a.id, b.id) for a in leads for b in voices if a.seat == b.seat]


def _apart(hearing: Hearing, subject: Subject) -> Measured | None:
    pair = [hearing.session.track(t) for t in subject]
    levels = [_in_mix(hearing, t) for t in pair]
    if not all(map(math.isfinite, levels)):
        return None
    soft, loud = (pair[i] for i in np.argsort(levels))
    apart = abs(levels[0] - levels[1])
    return Measured(
        value=apart, tracks=(soft.id, loud.id),
        sentence=f"{soft.name} and {loud.name} have one seat, but {loud.name} is {apart:.0f} LU louder",
        advice="What carries the song from section to section is to be alike in level, or the ear has to look for it.",
    )  # fmt: skip


def _apart_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    soft, loud = (hearing.session.strip(t) for t in finding.tracks)
    return [rungs.fader(hearing, soft, 9.0), rungs.fader(hearing, loud, -9.0)]


enter(
    Check(
        name="leads_apart", title="A lead and a voice that are not alike in level", quantity="apart_lu", threshold=5.0, strong=14.0, target=4.0,
        source="common practice", stage="fit", over="pair", subjects=_two_leads, measure=_apart, rungs=_apart_rungs,
    )
)  # fmt: skip


def _backings(session: Session) -> list[Subject]:
    voices = sorted((t for t in session.with_role("voice") if not t.mute), key=lambda t: t.seat)
    return [(v.id, voices[0].id) for v in voices[1:] if v.seat > voices[0].seat]


def _backing(hearing: Hearing, subject: Subject) -> Measured | None:
    backing, lead = (hearing.session.track(t) for t in subject)
    if not (hearing.sounds(backing.id) and hearing.sounds(lead.id)):
        return None
    value = _in_mix(hearing, backing) - _in_mix(hearing, lead)
    return Measured(
        value=value,
        sentence=f"{backing.name} is only {-value:.0f} LU under {lead.name}"
        if value < 0
        else f"{backing.name} is {value:.0f} LU over {lead.name}",
        advice="Backing voices carry the first one; 6 LU under it is usual.",
    )


enter(
    Check(
        name="backing_over_lead", title="Backing voices over the first", quantity="backing_lu", threshold=-3.0, strong=6.0, target=-5.0,
        source="common practice", stage="fit", over="pair", subjects=_backings, measure=_backing, rungs=_fader(-12.0),
    )
)  # fmt: skip


def _drums_over(hearing: Hearing, subject: Subject) -> Measured | None:
    tracks = [t for t in hearing.session.tracks if not t.mute and hearing.sounds(t.id)]
    drums, others = [t for t in tracks if t.role in DRUMS], [t for t in tracks if t.role not in DRUMS]
    if len(drums) < 2 or len(others) < 2:
        return None

    def together(few: list[Track]) -> float:
        """Different parts do not know each other's waves: their energies add up."""
        heard = [_in_mix(hearing, t) for t in few]
        return 10.0 * math.log10(sum(10.0 ** (lufs / 10.0) for lufs in heard if math.isfinite(lufs)) + 1e-20)

    value = together(drums) - together(others)
    loudest = max(drums, key=lambda t: _in_mix(hearing, t))
    return Measured(
        value=value,
        tracks=(loudest.id, *(t.id for t in drums if t is not loudest)),
        sentence=f"The drums are {value:.0f} LU over all else together",
        advice="They carry the song; they are not all of it.",
    )


def _drums_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    session = hearing.session
    buses = {session.track(t).bus for t in finding.tracks}
    made = [rungs.fader(hearing, session.strip(finding.tracks[0]), -12.0)]
    if len(buses) == 1 and (bus := next(iter(buses))) is not None:
        made.append(rungs.fader(hearing, session.strip(bus), -12.0))
    return made


enter(
    Check(
        name="drums_over_all", title="Drums over everything", quantity="drums_over_lu", threshold=3.0, strong=14.0, target=2.0,
        source="common practice", stage="fit", over="mix", subjects=the_mix, measure=_drums_over,
        again=lambda hearing, tracks: math.nan if (m := _drums_over(hearing, tracks)) is None else m.value, rungs=_drums_rungs,
    )
)  # fmt: skip


# --- picture -------------------------------------------------------------------------------------------------------

_OCTAVES_HZ = (125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)


def _sides_db(hearing: Hearing, strip_id: str) -> FloatArray:
    """Level of the left side over the right, in dB: in all, and in each of ``_OCTAVES_HZ``; shape (8,). And, from the ninth on, how
    much of the power lies in each octave, (7,)."""
    key = hearing.graph.strip[strip_id].key

    def work() -> FloatArray:
        sides = hearing.side_spectra(strip_id)
        bands = [(100.0, 16000.0), *((hz / math.sqrt(2.0), hz * math.sqrt(2.0)) for hz in _OCTAVES_HZ)]
        powers = np.array([[s.band_power(*band) for s in sides] for band in bands]) + 1e-14
        return np.concatenate([10.0 * np.log10(powers[:, 0] / powers[:, 1]), powers[1:].sum(axis=1) / powers[0].sum()])

    return hearing.fact("sides", key, work)


def _lean(hearing: Hearing, subject: Subject) -> Measured | None:
    mix = hearing.session.mix.id
    if not hearing.sounds(mix):
        return None
    value = float(_sides_db(hearing, mix)[0])
    side = "left" if value > 0 else "right"
    worst = _leaning_tracks(hearing, value, None)
    return Measured(
        value=abs(value),
        tracks=worst or subject,
        sentence=f"The picture leans {side} by {abs(value):.1f} dB",
        advice=f"Mostly by {' and '.join(hearing.session.strip(t).name for t in worst)}."
        if worst
        else "By what stands on that side.",
    )


def _leaning_tracks(hearing: Hearing, lean_db: float, octave: int | None) -> tuple[str, ...]:
    """The tracks that put most on the side it leans to, at most two, the most first."""
    pulls = {}
    for track in hearing.session.tracks:
        if track.mute or not hearing.sounds(track.id):
            continue
        sides = _sides_db(hearing, track.id)
        band = (
            (100.0, 16000.0)
            if octave is None
            else (_OCTAVES_HZ[octave] / math.sqrt(2.0), _OCTAVES_HZ[octave] * math.sqrt(2.0))
        )
        ratio = 10.0 ** (sides[0 if octave is None else octave + 1] / 10.0)
        pull = 10.0 ** (hearing.band_db(track.id, *band) / 10.0) * (ratio - 1.0) / (ratio + 1.0)
        pulls[track.id] = pull if lean_db > 0 else -pull
    ordered = sorted(pulls, key=lambda t: -pulls[t])
    return tuple(t for t in ordered[:2] if pulls[t] > 0.3 * max(pulls.values(), default=0.0) and pulls[t] > 0.0)


def _lean_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    made: list[Rung] = []
    for track_id in finding.tracks:
        if track_id == hearing.session.mix.id:
            continue
        strip = hearing.session.strip(track_id)
        to_right = _sides_db(hearing, track_id)[0] > 0.0

        def panned(amount: float, strip: object = strip) -> Session:
            assert isinstance(strip, Track)
            return change_strip(
                hearing.session, strip.id, pan_pct=round(float(np.clip(strip.pan_pct + amount, -100.0, 100.0)))
            )

        room = (100.0 - strip.pan_pct) if to_right else (-100.0 - strip.pan_pct)
        made.append(
            Rung(
                label=f"Pan {strip.name}", school="place", make=panned, deepest=room, digits=0,
                detail=lambda a, strip=strip: f"{strip.name} {abs(strip.pan_pct + a):.0f} % {'right' if strip.pan_pct + a > 0 else 'left'}",  # type: ignore[misc]
            )
        )  # fmt: skip
        made.append(rungs.fader(hearing, strip, -6.0))
    mix = hearing.session.mix

    def balanced(amount: float) -> Session:
        return change_strip(hearing.session, mix.id, pan_pct=round(float(np.clip(mix.pan_pct + amount, -100.0, 100.0))))

    right = _sides_db(hearing, mix.id)[0] > 0
    made.append(
        Rung(
            label="Pan the mix",
            school="place",
            make=balanced,
            deepest=40.0 if right else -40.0,
            digits=0,
            detail=lambda a: f"the whole picture by {abs(a):.0f} %",
        )
    )
    return made


def _lean_again(hearing: Hearing, tracks: Subject) -> float:
    found = _lean(hearing, (hearing.session.mix.id,))
    return math.nan if found is None else found.value


enter(
    Check(
        name="leans", title="A picture that leans", quantity="lean_db", threshold=1.5, strong=8.0, target=0.8,
        source="a difference of 1 dB moves the middle by what is just noticed (common practice)", stage="fit", over="mix", subjects=the_mix,
        measure=_lean, again=_lean_again, rungs=_lean_rungs,
    )
)  # fmt: skip


def _worst_octave(hearing: Hearing) -> int:
    """Of those in which there is much of the mix: the one that leans most."""
    sides = _sides_db(hearing, hearing.session.mix.id)
    counts = sides[8:] > 0.01
    return int(np.argmax(np.where(counts, np.abs(sides[1:8]), 0.0)))


def _lean_band(hearing: Hearing, subject: Subject) -> Measured | None:
    mix = hearing.session.mix.id
    if not hearing.sounds(mix):
        return None
    sides, octave = _sides_db(hearing, mix), _worst_octave(hearing)
    value = float(sides[1 + octave])
    hz = _OCTAVES_HZ[octave]
    worst = _leaning_tracks(hearing, value, octave)
    # Where the whole leans, that is said once.
    return Measured(
        value=abs(value) if abs(sides[0]) < 1.5 else min(abs(value), 3.9), tracks=worst or subject, band_hz=(hz / math.sqrt(2.0), hz * math.sqrt(2.0)),
        evidence={"at_hz": hz}, sentence=f"Around {rungs.in_hz(hz)} the picture leans {'left' if value > 0 else 'right'} by {abs(value):.1f} dB",
        advice=f"Mostly by {' and '.join(hearing.session.strip(t).name for t in worst)}." if worst else "",
    )  # fmt: skip


def _lean_band_again(hearing: Hearing, tracks: Subject) -> float:
    found = _lean_band(hearing, (hearing.session.mix.id,))
    return math.nan if found is None else found.value


enter(
    Check(
        name="leans_in_band", title="An octave that leans", quantity="lean_band_db", threshold=4.0, strong=12.0, target=3.0, source="common practice",
        stage="fit", over="mix", subjects=the_mix, measure=_lean_band, again=_lean_band_again, rungs=_lean_rungs, reads=("at_hz",),
    )
)  # fmt: skip


def _mono_loss(hearing: Hearing, subject: Subject) -> Measured | None:
    strip = hearing.session.strip(subject[0])
    loss = hearing.levels(strip.id).loudness.fold_down_loss_lu
    # What stands at one side alone loses 3 dB whatever it is: the law of the pan, and no fault.
    sides = abs(float(_sides_db(hearing, strip.id)[0]))
    allowed = 3.0 * min(1.0, sides / 12.0)
    return Measured(
        value=loss - allowed,
        sentence=f"{strip.name} loses {loss:.1f} LU in mono",
        advice="Its sides are against each other. On one speaker it is gone.",
    )


def _mono_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    strip = hearing.session.strip(finding.tracks[0])

    def narrower(amount: float) -> Session:
        return insert_device(
            hearing.session, strip.id, new_device(strip, "width", label="Narrower", width_pct=round(100.0 - amount))
        )

    return [
        Rung(
            label="Narrower",
            school="place",
            make=narrower,
            deepest=100.0,
            digits=0,
            detail=lambda a: f"{strip.name} {100 - a:.0f} % wide",
        ),
        rungs.put(
            hearing,
            strip,
            "mono_low",
            label="Mono lows",
            school="place",
            words=f"{strip.name} below 200 Hz",
            freq_hz=200.0,
        ),
    ]


enter(
    Check(
        name="mono_loss", title="What mono takes away", quantity="mono_loss_lu", threshold=3.6, strong=12.0, target=3.1, source="sides that know nothing of each other lose 3 dB; more, common practice",
        stage="fit", subjects=tracks_without("effect"), measure=_mono_loss, rungs=_mono_rungs,
    )
)  # fmt: skip


# --- the signal itself ---------------------------------------------------------------------------------------------


def _over_peak(hearing: Hearing, subject: Subject) -> Measured | None:
    mix = hearing.session.mix.id
    if not hearing.sounds(mix):
        return None

    def work() -> float:
        return float(gain_to_db(true_peak(hearing.stem(mix), hearing.rate_hz)))

    between = hearing.fact("true peak", hearing.graph.strip[mix].key, work)
    sample = float(gain_to_db(hearing.levels(mix).peak))
    return Measured(  # where samples go over, "clips" says it
        value=between if sample <= 0.0 else 0.0,
        evidence={"true_peak_dbtp": between, "sample_peak_dbfs": sample},
        sentence=f"Between the samples the mix goes {between:.1f} dB over full scale",
        advice="No meter of samples shows it; converters and encoders clip on it. −1 dBTP is what most ask for.",
    )


def _peak_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    mix = hearing.session.mix
    made = [rungs.fader(hearing, mix, -9.0)]
    made.append(
        rungs.put(
            hearing, mix, "limiter", label="Ceiling", school="dynamics", words="ceiling −1 dBTP", ceiling_dbtp=-1.0
        )
    )
    return made


enter(
    Check(
        name="inter_sample_peaks", title="Peaks between the samples", quantity="over_peak_db", threshold=0.0, strong=3.0, target=-0.5,
        source="EBU R 128: at most −1 dBTP", stage="fit", over="bus", subjects=the_mix, measure=_over_peak, rungs=_peak_rungs,
        reads=("true_peak_dbtp", "sample_peak_dbfs"), least=0.05,
    )
)  # fmt: skip


def _offset(hearing: Hearing, subject: Subject) -> Measured | None:
    strip = hearing.session.strip(subject[0])
    value = float(gain_to_db(hearing.levels(strip.id).offset))
    return Measured(
        value=value,
        sentence=f"{strip.name} stands off centre: a steady offset of {value:.0f} dBFS".replace("-", "−"),
        advice="It takes headroom and clicks where it starts and stops. A low cut far below all notes takes it out.",
    )


enter(
    Check(
        name="offset", title="A steady offset", quantity="dc_dbfs", threshold=-40.0, strong=-12.0, target=-60.0, source="common practice",
        stage="chains", subjects=all_strips, measure=_offset,
        rungs=lambda hearing, finding: [rungs.cut(hearing, hearing.session.strip(finding.tracks[0]), "low_cut", 20.0, slope=12, label="Take the offset out", first=False)],
    )
)  # fmt: skip


def _click(hearing: Hearing, subject: Subject) -> Measured | None:
    track = hearing.session.track(subject[0])
    rate = hearing.rate_hz
    found = hearing.fact("clicks", hearing.graph.raw[track.id].key, lambda: tuple(clicks(hearing.raw(track.id), rate)))
    start, end = hearing.span
    value = 60.0 * len(found) / ((end - start) / rate)
    bar = int(found[0] / (hearing.session.song.bar_s * rate)) if found else 0
    return Measured(
        value=value, bars=(bar, bar) if len(found) == 1 else None,
        sentence=f"{track.name} clicks {len(found)} time{'s' if len(found) != 1 else ''}, first in bar {hearing.first_bar + bar}",
        advice="A cut without a fade, or a drop-out as it was recorded. Cut it at a quieter place, with a fade of 5 ms.",
    )  # fmt: skip


def _click_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    track = hearing.session.track(finding.tracks[0])
    parts = tuple(
        p.replace(fade_in_ms=max(p.fade_in_ms, 5.0), fade_out_ms=max(p.fade_out_ms, 5.0)) for p in track.parts
    )
    if not parts:
        return [
            Rung.refused("Fade its ends", "edit", "the clip is one piece here; cut it into parts at the click first")
        ]
    return [
        Rung(
            label="Fade its ends", school="edit", whole=True, detail=lambda _: f"5 ms on {len(parts)} parts of {track.name}",
            make=lambda _: change_strip(hearing.session, track.id, parts=parts),
        )
    ]  # fmt: skip


enter(
    Check(
        name="clicks", title="Clicks", quantity="clicks_per_min", threshold=0.1, strong=30.0, target=0.0, source="common practice", stage="chains",
        subjects=tracks_without(*DRUMS, "effect"), measure=_click, rungs=_click_rungs,
    )
)  # fmt: skip


# --- doubles -------------------------------------------------------------------------------------------------------


_DOUBLE = 0.4  # from how alike on two tracks play one thing (common practice)


def _doubles(session: Session) -> list[Subject]:
    tracks = [t for t in session.tracks if not t.mute]
    return [
        (a.id, b.id)
        for i, a in enumerate(tracks)
        for b in tracks[i + 1 :]
        if a.role == b.role or {a.role, b.role} == {"bass", "sub"}
    ]


def _lowered(hearing: Hearing, track_id: str) -> Single:
    key = hearing.graph.strip[track_id].key
    return hearing.fact("lowered", key, lambda: lowered(hearing.stem(track_id), hearing.rate_hz))


def _doubles_cancel(hearing: Hearing, subject: Subject) -> Measured | None:
    key = "+".join(hearing.graph.strip[t].key for t in subject)
    names = [hearing.session.strip(t).name for t in subject]
    one, other = (_lowered(hearing, t) for t in subject)
    if hearing.fact("likeness", key, lambda: likeness(one, other, hearing.rate_hz)) < _DOUBLE:
        return None  # two parts, whose partials meet here and there
    found = hearing.fact(
        "doubles", key, lambda: layer_cancel(hearing.stem(subject[0]), hearing.stem(subject[1]), hearing.rate_hz)
    )
    return Measured(
        value=found.worst_db,
        evidence={"at_hz": found.worst_hz},
        band_hz=(found.worst_hz / 1.4, found.worst_hz * 1.4),
        sentence=f"{names[0]} and {names[1]} double each other and cancel by {-found.worst_db:.0f} dB near {rungs.in_hz(found.worst_hz)}",
        advice="Together they are less than each alone: their waves stand against each other.",
    )


def _doubles_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    one, other = (hearing.session.strip(t) for t in finding.tracks)
    assert isinstance(other, Track)
    best = best_alignment(hearing.stem(one.id), hearing.stem(other.id), finding.evidence["at_hz"], hearing.rate_hz)
    made = [rungs.polarity(hearing, other)]
    if abs(best.later_ms) > 0.02:
        made.insert(0, rungs.nudge(hearing, other, best.later_ms, label="Line them up"))
    made.append(rungs.aside(hearing, other, one))
    made.append(rungs.mute(hearing, other))
    return made


enter(
    Check(
        name="doubles_cancel", title="Two tracks that double each other and cancel", quantity="cancel_db", threshold=-6.0, strong=-24.0, target=-3.0,
        source="common practice", stage="fit", over="pair", subjects=_doubles, measure=_doubles_cancel, rungs=_doubles_rungs, reads=("at_hz",),
    )
)  # fmt: skip
