"""Who hides whom: a lead under the chords, a part under another, a part that nobody hears, one that covers all, pile-ups and tails."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np

from zygotone.advise import rungs
from zygotone.advise.checks import Check, Measured, enter, the_mix, tracks_without
from zygotone.advise.findings import Finding, Subject
from zygotone.advise.hearing import Hearing
from zygotone.advise.ladder import Rung
from zygotone.advise.masking import Masking, masking_of, returns_of
from zygotone.advise.norms import CHORDS, DRUMS, LEADS
from zygotone.advise.rules.layers import mud_db
from zygotone.measure.hiding import Hiding, narrowest
from zygotone.measure.layers import band_levels_db
from zygotone.measure.masking import bands_hz
from zygotone.session.models import LOW_ROLES, Session, Strip, Track

LEAD_BAND_HZ, MUD_BAND_HZ, TOP_BAND_HZ = (1000.0, 5000.0), (200.0, 500.0), (8000.0, 12000.0)
_IN_BAR = 0.8  # of the share in the whole section, from which a bar is one of those concerned


def _in_hz(band: tuple[float, float]) -> str:
    low, high = band
    if high >= 1000.0 and low >= 1000.0:
        return f"{low / 1000:.1f}–{high / 1000:.1f} kHz"
    return f"{rungs.in_hz(low)}–{rungs.in_hz(high)}"


def _where(hiding: Hiding) -> tuple[tuple[int, int] | None, float]:
    """The bars in which it is as bad as in the whole or nearly so, None where that is all of them; and their share of the time."""
    run = hiding.slots_from(_IN_BAR * hiding.share)
    bars = hiding.total.shape[1]
    long = float(np.mean(hiding.by_slot >= _IN_BAR * hiding.share))
    return (None if run is None or run[1] - run[0] + 1 >= bars else run), long


def _in_bars(hearing: Hearing, bars: tuple[int, int] | None) -> str:
    return "" if bars is None else f", {rungs.bars_words(hearing, bars)}"


def giver_of(session: Session, maskers: Iterable[str]) -> Strip:
    """Who is worked at: the track, or the group that leads several of them and nothing else."""
    ids = set(maskers)
    if len(ids) > 1:
        for bus in session.buses:
            members = {t.id for t in session.tracks if t.bus == bus.id and not t.mute}
            if members and members <= ids:
                return bus
    return session.strip(next(iter(m for m in maskers)))


def _ladder(hearing: Hearing, finding: Finding) -> list[Rung]:
    """For a part under others: the least harmful first. The first track keeps its place, the others give way."""
    session = hearing.session
    keeps = session.strip(finding.tracks[0])
    gives = giver_of(session, finding.tracks[1:])
    band = finding.band_hz or LEAD_BAND_HZ
    steps = [*rungs.boosts_out(hearing, gives, band), rungs.level(hearing, gives, finding.bars)]
    if isinstance(gives, Track) and gives.role not in DRUMS:
        steps.append(rungs.octave(hearing, gives, 1 if band[0] < 700.0 else -1))
    steps += [
        rungs.carve(hearing, gives, band),
        rungs.aside(hearing, gives, keeps),
        rungs.dip(hearing, gives, keeps, band),
        rungs.duck(hearing, gives, keeps),
        rungs.drop_part(hearing, gives),
    ]
    return steps


def _left(masking: Masking, strip_id: str, share: float, least: float) -> dict[str, float]:
    """How much softer a track seems; asked only where it is found, since it takes its time."""
    return {"loudness_left_lu": masking.loudness_left_lu(strip_id)} if share > least else {}


# --- a lead under the chords ---------------------------------------------------------------------------------------


def _leads(session: Session) -> list[Subject]:
    return [(t.id,) for t in session.tracks if t.role in LEADS and not t.mute]


def _over_lead(hearing: Hearing, lead: Track) -> tuple[str, ...]:
    """Those that have to stay out of a lead's way: chords, and voices of a lower seat."""
    masking = masking_of(hearing)
    tracks = [t for t in hearing.session.tracks if t.id in masking.sounding]
    return tuple(
        t.id for t in tracks
        if t.id != lead.id and t.seat >= lead.seat and (t.role in (*CHORDS, "effect", "other") or (t.role in LEADS and t.seat > lead.seat))
    )  # fmt: skip


def _cover(hearing: Hearing, subject: Subject) -> Measured | None:
    lead = hearing.session.track(subject[0])
    masking = masking_of(hearing)
    if lead.id not in masking.sounding:
        return None
    over = _over_lead(hearing, lead)
    if not over:
        return None
    shares = {m: masking.hiding(m, lead.id).between(*LEAD_BAND_HZ) for m in over}
    worst = max(shares.values())
    if not worst > 0.0:  # nothing is hidden, or the lead has nothing there
        return Measured(value=0.0) if worst == 0.0 else None
    # Those that do most of it: the worst, and what comes near it.
    few = tuple(sorted((m for m in over if shares[m] > 0.4 * worst), key=lambda m: -shares[m]))[:3]
    hiding = masking.among(few, lead.id)
    share = hiding.between(*LEAD_BAND_HZ)
    inside = np.where((bands_hz() >= LEAD_BAND_HZ[0]) & (bands_hz() < LEAD_BAND_HZ[1]), hiding.hidden.sum(axis=1), 0.0)
    band = narrowest(inside, 0.7)
    bars, long = _where(hiding)
    giver = giver_of(hearing.session, few)
    names = (
        giver.name if len(few) > 1 and giver.id not in few else " and ".join(hearing.session.strip(m).name for m in few)
    )
    return Measured(
        value=share, tracks=(lead.id, *few), bars=bars, long=long, band_hz=band,
        sentence=f"{names} {'hides' if len(few) == 1 else 'hide'} {100 * share:.0f} % of {lead.name} between 1 and 5 kHz",
        advice=f"Most of it at {_in_hz(band)}{_in_bars(hearing, bars)}. {lead.name} has seat {lead.seat}; they give way.",
        evidence={"hidden_share": hiding.share, **_left(masking, lead.id, share, 0.3)},
    )  # fmt: skip


def _cover_again(hearing: Hearing, tracks: Subject) -> float:
    hiding = _hidden_by(hearing, tracks)
    return hiding if isinstance(hiding, float) else hiding.between(*LEAD_BAND_HZ)


def _hidden_by(hearing: Hearing, tracks: Subject) -> Hiding | float:
    """What the others of some tracks hide of the first; NaN where it is silent, 0 where they are. Asks for these tracks alone."""
    silent = [t for t in tracks if hearing.session.strip(t).mute or not hearing.sounds(t)]
    if tracks[0] in silent:
        return math.nan
    maskers = [m for m in tracks[1:] if m not in silent]
    return masking_of(hearing).among(maskers, tracks[0]) if maskers else 0.0


enter(
    Check(
        name="lead_covered", title="A lead under the chords", quantity="covered_share", threshold=0.3, strong=0.75, target=0.22,
        source="where a lead is understood, 1 to 5 kHz (ANSI S3.5, speech intelligibility, from memory); the share, common practice",
        stage="fit", over="mix", subjects=_leads, measure=_cover, again=_cover_again, rungs=_ladder, reads=("hidden_share", "loudness_left_lu"),
    )
)  # fmt: skip


# --- one part under another ----------------------------------------------------------------------------------------


def _hidden_pair(hearing: Hearing, subject: Subject) -> Measured | None:
    session, masking = hearing.session, masking_of(hearing)
    own = session.track(subject[0])
    if own.id not in masking.sounding:
        return None
    # A lead under chords, and a kick under a bass, have rules of their own.
    mine = [
        t for t in session.tracks
        if t.id in masking.sounding and t.id != own.id and t.seat >= own.seat
        and not (own.role == "kick" and t.role in LOW_ROLES) and not (own.role in LOW_ROLES and t.role == "kick")
    ]  # fmt: skip
    if not mine:
        return None
    gives = max(mine, key=lambda t: masking.hiding(t.id, own.id).share)
    hiding = masking.hiding(gives.id, own.id)
    band = hiding.band_hz(0.7)
    bars, long = _where(hiding)
    alike = gives.seat == own.seat
    return Measured(
        value=hiding.share, tracks=(own.id, gives.id), bars=bars, long=long, band_hz=band,
        sentence=f"{gives.name} hides {100 * hiding.share:.0f} % of {own.name}, most at {_in_hz(band)}{_in_bars(hearing, bars)}",
        advice="Both have one seat; say in Brief which of them gives way." if alike else f"{gives.name} has the lower seat ({gives.seat}) and gives way.",
        evidence=_left(masking, own.id, hiding.share, 0.5),
    )  # fmt: skip


def _pair_again(hearing: Hearing, tracks: Subject) -> float:
    hiding = _hidden_by(hearing, tracks)
    return hiding if isinstance(hiding, float) else hiding.share


enter(
    Check(
        name="part_covered", title="A part under another", quantity="hidden_share", threshold=0.5, strong=1.0, target=0.42,
        source="Moore, Glasberg and Baer 1997 for what is hidden; half of it, common practice", stage="fit", over="mix",
        subjects=tracks_without("effect"), measure=_hidden_pair, again=_pair_again, rungs=_ladder, reads=("loudness_left_lu",),
    )
)  # fmt: skip


# --- nobody hears it, or it covers all -----------------------------------------------------------------------------


def _unheard(hearing: Hearing, subject: Subject) -> Measured | None:
    masking = masking_of(hearing)
    track = hearing.session.track(subject[0])
    if track.id not in masking.sounding or len(masking.sounding) < 3:
        return None
    hiding = masking.against_all(track.id)
    left = masking.loudness_left_lu(track.id) if hiding.share > 0.9 else 0.0
    return Measured(
        value=hiding.share, evidence={"loudness_left_lu": left, "audible_lufs": hearing.lufs(track.id) + left},
        band_hz=hiding.band_hz(0.8),
        sentence=f"Nobody hears {track.name}: the others hide {100 * hiding.share:.0f} % of it",
        advice=f"Among them it seems {-left:.0f} LU softer than alone. Bring it out, put it elsewhere, or leave it out.",
    )  # fmt: skip


def _unheard_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    track = hearing.session.track(finding.tracks[0])
    return [
        rungs.fader(hearing, track, 9.0), rungs.octave(hearing, track, 1), rungs.octave(hearing, track, -1),
        rungs.aside(hearing, track, track), rungs.drop_part(hearing, track),
    ]  # fmt: skip


enter(
    Check(
        name="nobody_hears", title="A part that nobody hears", quantity="hidden_share", threshold=0.975, strong=1.0, target=0.93,
        source="nine tenths hidden is inaudible in noise (Hawkins and Stevens 1950); nearly all of it here, common practice", stage="fit",
        over="mix", subjects=tracks_without("kick", "sub", "effect"), measure=_unheard, rungs=_unheard_rungs, reads=("loudness_left_lu", "audible_lufs"),
        least=0.01,
    )
)  # fmt: skip


def _hides_share(hearing: Hearing, subject: Subject) -> tuple[float, list[str]]:
    """Of all others that it may not cover: the share that it masks alone, and their names, the most hidden first."""
    masking = masking_of(hearing)
    own = hearing.session.track(subject[0])
    others = [t for t in hearing.session.tracks if t.id in masking.sounding and t.id != own.id and t.seat <= own.seat]
    if own.id not in masking.sounding or len(others) < 3:
        return math.nan, []
    each = {t.name: masking.hiding(own.id, t.id) for t in others}
    # Each counts alike, loud or soft.
    share = float(np.mean([h.share for h in each.values()]))
    return share, sorted(each, key=lambda name: -each[name].share)


def _covers(hearing: Hearing, subject: Subject) -> Measured | None:
    share, names = _hides_share(hearing, subject)
    if not math.isfinite(share):
        return None
    own = hearing.session.track(subject[0])
    return Measured(
        value=share,
        sentence=f"{own.name} covers all: it hides {100 * share:.0f} % of what has its seat or a better one",
        advice=f"Most of {', '.join(names[:3])}. It has seat {own.seat}, and can do with less.",
    )  # fmt: skip


def _covers_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    track = hearing.session.track(finding.tracks[0])
    own = masking_of(hearing).total(track.id).sum(axis=1)
    return [
        rungs.fader(hearing, track, -9.0), rungs.octave(hearing, track, 1), rungs.carve(hearing, track, narrowest(own, 0.5), label="Thin it out"),
        rungs.aside(hearing, track, track), rungs.drop_part(hearing, track),
    ]  # fmt: skip


enter(
    Check(
        name="covers_all", title="A part that covers all others", quantity="hides_share", threshold=0.35, strong=0.8, target=0.27,
        source="common practice", stage="fit", over="mix", subjects=tracks_without(*LEADS, *DRUMS, *LOW_ROLES), measure=_covers,
        rungs=_covers_rungs,
    )
)  # fmt: skip


# --- pile-ups ------------------------------------------------------------------------------------------------------

_PILE_SHARE = 0.12  # of the power of all tracks in the band, from which one is part of a pile-up


def _mix_mud(hearing: Hearing) -> float:
    mix = hearing.session.mix.id
    if not hearing.sounds(mix):
        return math.nan
    return mud_db(band_levels_db(hearing.spectrum(mix)))


def _pile_up(hearing: Hearing, subject: Subject) -> Measured | None:
    masking, session = masking_of(hearing), hearing.session
    # Of drums it is the hits that reach there, and they are gone at once.
    voices = [v for v in masking.sounding if any(t.id == v and t.role not in DRUMS for t in session.tracks)]
    power = {v: 10.0 ** (hearing.band_db(v, *MUD_BAND_HZ) / 10.0) for v in voices}
    total = sum(power.values())
    part = [v for v in voices if power[v] > _PILE_SHARE * total]
    if len(part) < 3:
        return None
    worst = max(part, key=lambda v: (session.track(v).seat, power[v]))
    names = [session.track(v).name for v in sorted(part, key=lambda v: -power[v])]
    return Measured(
        value=_mix_mud(hearing), tracks=(worst, *(v for v in part if v != worst)), band_hz=MUD_BAND_HZ,
        sentence=f"{', '.join(names[:-1])} and {names[-1]} pile up between 200 and 500 Hz",
        advice=f"{session.track(worst).name} has the lowest seat of them ({session.track(worst).seat}): let it do with less there.",
    )  # fmt: skip


def _pile_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    made: list[Rung] = []
    for track_id in sorted(finding.tracks, key=lambda t: -hearing.session.track(t).seat)[:2]:
        track = hearing.session.track(track_id)
        made += [
            rungs.level(hearing, track, None),
            rungs.octave(hearing, track, 1),
            rungs.carve(hearing, track, MUD_BAND_HZ, label="Out of the mud"),
        ]
    return [
        *made,
        rungs.carve(hearing, hearing.session.mix, MUD_BAND_HZ, label="Out of the mix's mud", deepest_db=-3.0),
    ]


enter(
    Check(
        name="pile_up", title="Tracks that pile up", quantity="mud_db", threshold=4.0, strong=12.0, target=3.5, source="common practice",
        stage="fit", over="mix", subjects=the_mix, measure=_pile_up, again=lambda hearing, tracks: _mix_mud(hearing), rungs=_pile_rungs,
    )
)  # fmt: skip


def _returns(session: Session) -> list[Subject]:
    return [(b.id,) for b in returns_of(session) if not b.mute]


def _return_mud(hearing: Hearing, subject: Subject) -> Measured | None:
    masking, bus = masking_of(hearing), hearing.session.strip(subject[0])
    dry = [t.id for t in hearing.session.tracks if t.id in masking.sounding]
    if bus.id not in masking.sounding or not dry:
        return None
    total = sum(10.0 ** (hearing.band_db(t, *MUD_BAND_HZ) / 10.0) for t in dry)
    value = hearing.band_db(bus.id, *MUD_BAND_HZ) - 10.0 * math.log10(total + 1e-14)
    return Measured(
        value=value, band_hz=MUD_BAND_HZ,
        sentence=f"What comes back from {bus.name} builds up between 200 and 500 Hz",
        advice=f"It is {-value:.0f} dB under all dry tracks there; a space that is clear is 12 dB under them or more.",
    )  # fmt: skip


def _return_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    bus = hearing.session.strip(finding.tracks[0])
    return [
        rungs.fader(hearing, bus, -9.0),
        rungs.cut(hearing, bus, "low_cut", 300.0, slope=12, label="Clear its lows", first=True),
        rungs.carve(hearing, bus, MUD_BAND_HZ, label="Clear its low mids"),
    ]  # fmt: skip


enter(
    Check(
        name="return_pile_up", title="Returns that build up", quantity="return_mud_db", threshold=-9.0, strong=0.0, target=-11.0,
        source="common practice", stage="space", over="mix", subjects=_returns, measure=_return_mud, rungs=_return_rungs,
    )
)  # fmt: skip


def _tails(hearing: Hearing, subject: Subject) -> Measured | None:
    """The track that a return hides most, where more than that one feeds it."""
    masking, session = masking_of(hearing), hearing.session
    bus = session.strip(subject[0])
    if bus.id not in masking.sounding:
        return None
    tracks = [
        t
        for t in session.tracks
        if t.id in masking.sounding and t.role not in ("effect", "pad") and hearing.plays(t.id)
    ]
    if not tracks:
        return None
    worst = max(tracks, key=lambda t: masking.hiding(bus.id, t.id).share)
    hiding = masking.hiding(bus.id, worst.id)
    bars, long = _where(hiding)
    return Measured(
        value=hiding.share, tracks=(worst.id, bus.id), bars=bars, long=long, band_hz=hiding.band_hz(0.7),
        sentence=f"{bus.name} rings over the next notes: it hides {100 * hiding.share:.0f} % of {worst.name}",
        advice="A tail is to be over, or thin, when the next chord comes.",
    )  # fmt: skip


def _tail_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    keeps, bus = (hearing.session.strip(t) for t in finding.tracks)
    band = finding.band_hz or MUD_BAND_HZ
    made = [rungs.fader(hearing, bus, -9.0)]
    for path, device in ((d.id, d) for d in bus.chain if d.spec.rings and "decay_s" in d.params):
        made.append(
            rungs.device_to(
                hearing,
                bus,
                path,
                "decay_s",
                max(0.3, 0.35 * device.params["decay_s"]),
                label="Shorter",
                unit="s",
                digits=2,
            )
        )
    return [
        *made,
        rungs.carve(hearing, bus, band),
        rungs.dip(hearing, bus, keeps, band),
        rungs.duck(hearing, bus, keeps),
    ]


enter(
    Check(
        name="tail_over_next", title="A tail over the next notes", quantity="tail_share", threshold=0.3, strong=0.8, target=0.22,
        source="common practice; what a tail hides, Moore, Glasberg and Baer 1997", stage="space", over="mix", subjects=_returns, measure=_tails,
        again=_pair_again, rungs=_tail_rungs, reads=("hidden_share",),
    )
)  # fmt: skip


# --- two brights ---------------------------------------------------------------------------------------------------


def _pairs(session: Session) -> list[Subject]:
    tracks = [t for t in session.tracks if not t.mute]
    return [(a.id, b.id) for i, a in enumerate(tracks) for b in tracks[i + 1 :]]


def _brights(hearing: Hearing, subject: Subject) -> Measured | None:
    masking, session = masking_of(hearing), hearing.session
    if not set(subject) <= set(masking.sounding):
        return None
    inside = (bands_hz() >= TOP_BAND_HZ[0]) & (bands_hz() < TOP_BAND_HZ[1])
    totals = [masking.total(t) for t in subject]
    # Both must have much there, and both must be there at once.
    if min(float(t[inside].sum() / max(t.sum(), 1e-12)) for t in totals) < 0.12:
        return None
    share = _shared(masking, *subject)
    gives = max(subject, key=lambda t: session.track(t).seat)
    keeps = next(t for t in subject if t != gives)
    names = [session.track(t).name for t in (keeps, gives)]
    return Measured(
        value=share, tracks=(keeps, gives), band_hz=TOP_BAND_HZ,
        sentence=f"{names[0]} and {names[1]} are both bright at 8–12 kHz, at the same moments",
        advice=f"One of them is enough of it; {names[1]} gives way.",
    )  # fmt: skip


_NEAR = 4.0  # a factor of power within which two are in one place


def _shared(masking: Masking, one: str, other: str) -> float:
    """Of what two have at 8 to 12 kHz, the share where both are, within 6 dB of each other; of the one that has less of it."""
    a, b = masking.heard(one), masking.heard(other)
    key = "&".join(map(masking.path_key, (one, other)))

    def work() -> float:
        inside = (bands_hz() >= TOP_BAND_HZ[0]) & (bands_hz() < TOP_BAND_HZ[1])
        weights = [x.weight[:, inside] for x in (a, b)]
        powers = [x.pattern[:, inside] for x in (a, b)]
        near = (
            (powers[0] < _NEAR * powers[1]) & (powers[1] < _NEAR * powers[0]) & (weights[0] > 0.0) & (weights[1] > 0.0)
        )
        return float(min(w[near].sum() / max(float(w.sum()), 1e-12) for w in weights))

    return masking.hearing.fact("both bright", key, work)


def _bright_rungs(hearing: Hearing, finding: Finding) -> list[Rung]:
    keeps, gives = (hearing.session.strip(t) for t in finding.tracks)
    return [
        rungs.level(hearing, gives, None), rungs.shelf(hearing, gives, "high_shelf", 7000.0, -9.0, label="Darker"), rungs.aside(hearing, gives, keeps),
        rungs.dip(hearing, gives, keeps, TOP_BAND_HZ),
    ]  # fmt: skip


enter(
    Check(
        name="two_brights", title="Two brights in one place", quantity="shared_share", threshold=0.5, strong=1.0, target=0.35,
        source="common practice", stage="fit", over="pair", subjects=_pairs, measure=_brights, rungs=_bright_rungs,
    )
)  # fmt: skip
