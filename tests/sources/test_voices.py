"""Voices: lines and chords, glides, who makes room, zones, and what moves within a note."""

import numpy as np
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.signals import RATE
from zygotone.dsp.voice_filters import analog_response
from zygotone.session.automation import DrawnPoint
from zygotone.session.edits import change_layer
from zygotone.session.instruments import (
    Envelope,
    InstrumentSource,
    Layer,
    Lfo,
    Note,
    Route,
    VoiceFilter,
    Voices,
    layer_params,
)
from zygotone.session.models import Part, Phrase, Section, Session, Song, Track
from zygotone.sources.instrument import felt_velocity, filter_stages, render_layer, render_note, zone_gain
from zygotone.sources.modulation import lfo_line
from zygotone.sources.voices import SongNote, Voice, allocate, limited

STEADY = Envelope(attack_ms=1, sustain=1.0, release_ms=20)


def layer(**more) -> Layer:
    sound = more.pop("sound", {"kind": "oscillator", "shape": "sine"})
    return Layer.model_validate({"id": "x", "name": "x", "sound": sound, "envelope": STEADY, **more})


def note(pitch: int = 69, velocity: float = 1.0, **more) -> Note:
    return Note(start_beat=0, length_beats=1, pitch=pitch, velocity=velocity, **more)


def placed(*notes: tuple[float, float, int]) -> list[SongNote]:
    """Start and length in s, pitch."""
    return [SongNote(round(a * RATE), round((a + n) * RATE), note(p)) for a, n, p in notes]


def pitch_at(y: np.ndarray, at_s: float, width_s: float = 0.1) -> float:
    part = y[0, round(at_s * RATE) : round((at_s + width_s) * RATE)]
    level = np.abs(np.fft.rfft(part * np.hanning(len(part)), 1 << 18))
    return float(np.argmax(level) * RATE / (1 << 18))


# --- lines and chords ----------------------------------------------------------------------------------------------


def test_a_mono_line_has_one_note_at_a_time_and_comes_back():
    voices = allocate(placed((0, 2, 60), (0.5, 0.5, 67)), Voices(mode="mono"), rate_hz=RATE, release=0)
    assert [(v.start / RATE, v.gate / RATE, v.note.pitch) for v in voices] == [(0, 0.5, 60), (0.5, 0.5, 67), (1, 1, 60)]
    assert [v.cut is not None for v in voices] == [True, True, False]


def test_legato_goes_on_with_one_voice():
    voices = allocate(placed((0, 1, 60), (0.8, 1, 64), (3, 1, 60)), Voices(mode="legato"), rate_hz=RATE, release=0)
    assert [v.start / RATE for v in voices] == [0, 3]
    assert voices[0].gate == round(1.8 * RATE)
    line = voices[0].pitch_line(2700, 0.0)
    assert line[0] == 60
    assert line[round(0.79 * RATE / 32)] == 60
    assert line[round(0.81 * RATE / 32)] == 64


@pytest.mark.parametrize(("by", "ms"), [("time", 100.0), ("rate", 200.0)])
def test_a_glide_takes_its_time(by, ms):
    # Two octaves: the constant time is 100 ms, at a constant rate it is 100 ms an octave.
    voices = Voices(mode="legato", glide_ms=100.0, glide_by=by)
    made = allocate(placed((0, 1, 48), (0.5, 1, 72)), voices, rate_hz=RATE, release=0)[0]
    line = made.pitch_line(1500, 0.0)
    arrives = 0.5 + ms / 1000.0
    assert line[round((0.5 + ms / 2000.0) * RATE / 32)] == pytest.approx(60.0, abs=0.3)
    assert line[int((arrives - 0.01) * RATE / 32)] < 72
    assert line[int((arrives + 0.01) * RATE / 32)] == 72


def test_glide_only_where_notes_overlap():
    voices = Voices(mode="mono", glide_ms=100.0, glide_when="overlap")
    made = allocate(placed((0, 0.4, 48), (0.5, 1, 60), (1.0, 1, 72)), voices, rate_hz=RATE, release=0)
    assert made[1].pitches == ((0, 60.0),)
    assert made[2].pitches[0] == (0, 60.0)


@settings(deadline=None)
@given(
    st.lists(st.tuples(st.floats(0, 3), st.floats(0.05, 2), st.integers(30, 90)), max_size=25), st.integers(1, 6)
)  # fmt: skip
def test_there_are_never_more_voices_than_allowed(notes, limit):
    made = allocate(placed(*notes), Voices(limit=limit), rate_hz=RATE, release=4800)
    for v in made:
        sounding = [
            o for o in made
            if o.start <= v.start < o.end + 4800 and (o.cut is None or o.start + o.cut > v.start)
        ]  # fmt: skip
        assert len(sounding) <= limit


def test_stealing_spares_the_outer_voices():
    voices = [Voice(i, RATE, note(p, v), ((0, float(p)),)) for i, (p, v) in enumerate([(40, 0.3), (55, 0.9), (60, 0.5), (80, 0.2)])]  # fmt: skip
    done = limited([*voices, Voice(10, RATE, note(64), ((0, 64.0),))], 4, 0)
    assert [v.cut is not None for v in done] == [False, False, True, False, False]  # the softest inner one


def test_a_stolen_voice_ends_without_a_click():
    source = InstrumentSource(
        layers=(layer(),),
        voices=Voices(limit=1),
        phrases=(
            Phrase(
                id="p",
                beats=4,
                notes=(
                    Note(start_beat=0, length_beats=3, pitch=57, velocity=1),
                    Note(start_beat=1.03, length_beats=1, pitch=64, velocity=0.001),
                ),
            ),
        ),
    )
    y = render_layer(
        source,
        source.layers[0],
        (Part(section="a", phrase="p"),),
        Song(sections=(Section(id="a", name="A", bars=1),)),
        RATE,
    )
    assert np.max(np.abs(np.diff(y[0]))) < 1.3 * 2 * np.pi * 220 / RATE


# --- zones ---------------------------------------------------------------------------------------------------------


def test_velocity_zones_cross_at_equal_power():
    soft, hard = layer(velocity_high=0.6, velocity_fade=0.2), layer(velocity_low=0.6, velocity_fade=0.2)
    for v in np.linspace(0.0, 1.0, 21):
        a, b = zone_gain(soft, note(velocity=v)), zone_gain(hard, note(velocity=v))
        assert a**2 + b**2 == pytest.approx(1.0)
    assert zone_gain(soft, note(velocity=0.3)) == 1.0
    assert zone_gain(hard, note(velocity=0.3)) == 0.0


def test_keys_outside_the_range_are_silent():
    one = layer(key_low=40, key_high=50)
    assert [zone_gain(one, note(p)) for p in (39, 40, 50, 51)] == [0, 1, 1, 0]


@given(st.floats(-1, 1), st.floats(0, 1))
def test_the_velocity_curve_keeps_its_ends_and_order(curve, v):
    one = layer(velocity_curve=curve)
    assert felt_velocity(one, 0.0) == 0.0
    assert felt_velocity(one, 1.0) == 1.0
    assert 0.0 <= felt_velocity(one, v) <= 1.0
    if curve > 0:
        assert felt_velocity(one, v) >= v - 1e-12


# --- what moves ----------------------------------------------------------------------------------------------------


def test_an_lfo_climbs_from_eighths_to_sixteenths_over_a_bar():
    # At 120 BPM an eighth lasts 0.25 s (4 Hz), a sixteenth 0.125 s (8 Hz); over 2 s that is 12 cycles, the mean of both.
    lfo = Lfo(shape="ramp_up", rate="1/8", rate_to="1/16", climb="1/1")
    t = np.linspace(0.0, 4.0, 40001)
    y = lfo_line(lfo, t, song_s=0.0, bpm=120.0, seed=0)
    falls = t[1:][np.diff(y) < -0.02]
    starts = falls[np.concatenate([[True], np.diff(falls) > 0.02])]
    assert np.sum(starts <= 2.001) == 12
    assert np.median(np.diff(starts[starts > 2.2])) == pytest.approx(0.125, abs=0.002)


def test_lfo_modes_delay_and_rise():
    t = np.linspace(0.0, 2.0, 2001)
    once = lfo_line(Lfo(shape="ramp_up", mode="one_shot", rate=2.0), t, song_s=5.0, bpm=120, seed=0)
    assert np.all(once[600:] == once[600])
    free = lfo_line(Lfo(mode="free", rate=0.5), t, song_s=0.5, bpm=120, seed=0)
    assert free[0] == pytest.approx(1.0)  # a quarter of the cycle into the song
    late = lfo_line(Lfo(rate=5.0, delay_ms=500, rise_ms=500), t, song_s=0.0, bpm=120, seed=0)
    assert not late[:500].any()
    assert np.max(np.abs(late[500:700])) < 0.5 < np.max(np.abs(late[1100:]))
    drawn = Lfo(shape="drawn", rate=1.0, cycle=(DrawnPoint(at=0, height=0), DrawnPoint(at=0.5, height=1), DrawnPoint(at=1, height=0)))  # fmt: skip
    assert lfo_line(drawn, np.array([0.0, 0.25, 0.5]), song_s=0, bpm=120, seed=0).tolist() == [-1.0, 0.0, 1.0]


def test_shared_lfos_move_layers_as_one():
    shared = (Lfo(mode="free", rate=3.0), Lfo())
    made = [
        render_note(
            layer(id=i, routes=(Route(source="shared1", target="level_db", amount=-12.0),)), note(p),
            gate_frames=RATE, rate_hz=RATE, a4_hz=440.0, shared=shared,
        )
        for i, p in (("a", 69), ("b", 81))
    ]  # fmt: skip
    levels = [np.array([np.std(y[0, k : k + 1200]) for k in range(0, RATE - 1200, 1200)]) for y in made]
    assert np.corrcoef(levels[0], levels[1])[0, 1] > 0.99
    assert levels[0].max() > 2 * levels[0].min()


@pytest.mark.parametrize(
    ("route", "given", "wanted"),
    [
        (Route(source="macro1", target="pitch", amount=12.0), {"macros": (1.0, 0, 0, 0)}, 880.0),
        (Route(source="wheel", target="pitch", amount=-12.0), {"wheel": 1.0}, 220.0),
        (Route(source="velocity", target="pitch", amount=12.0), {"velocity": 0.5}, 440.0 * 2**0.5),
        (Route(source="key", target="pitch", amount=12.0), {"pitch": 72}, 1046.5),
    ],
)
def test_routes_lead_to_the_pitch(route, given, wanted):
    y = render_note(layer(routes=(route,)), note(**given), gate_frames=RATE // 2, rate_hz=RATE, a4_hz=440.0)
    assert pitch_at(y, 0.2) == pytest.approx(wanted, rel=1e-3)


def test_routes_on_a_ratio_scale_count_octaves():
    saw = {"kind": "oscillator", "shape": "saw"}
    f = VoiceFilter(cutoff_hz=500.0, slope_db_oct=24)
    plain = layer(sound=saw, filter=f)
    opened = layer(sound=saw, filter=f, routes=(Route(source="velocity", target="filter.cutoff_hz", amount=2.0),))
    set_so = layer(sound=saw, filter=f.replace(cutoff_hz=2000.0))
    a, b, c = (render_note(one, note(), gate_frames=RATE // 2, rate_hz=RATE, a4_hz=440.0) for one in (plain, opened, set_so))  # fmt: skip
    np.testing.assert_allclose(b, c, atol=1e-9)
    assert not np.allclose(a, b, atol=1e-3)


def test_a_route_can_move_a_table_and_an_operator():
    table = {"kind": "wavetable", "table": "opening"}
    moving = layer(sound=table, routes=(Route(source="amp", target="sound.position", amount=1.0),), envelope=Envelope(attack_ms=500, sustain=1))  # fmt: skip
    y = render_note(moving, note(45), gate_frames=RATE, rate_hz=RATE, a4_hz=440.0)
    bright = [np.std(np.diff(y[0, a : a + 4800])) / np.std(y[0, a : a + 4800]) for a in (2400, 40000)]
    assert bright[1] > 2 * bright[0]
    fm = layer(sound={"kind": "fm"}, routes=(Route(source="macro1", target="sound.operators.1.index", amount=8.0),))
    soft, hard = (render_note(fm, note(45, macros=(m, 0, 0, 0)), gate_frames=RATE, rate_hz=RATE, a4_hz=440.0) for m in (0.0, 1.0))  # fmt: skip
    assert np.std(np.diff(hard[0])) > 1.5 * np.std(np.diff(soft[0]))


def test_a_route_to_nowhere_is_refused():
    with pytest.raises(ValueError, match="cannot move 'filter.cutoff_hz'"):
        layer(routes=(Route(source="velocity", target="filter.cutoff_hz", amount=1.0),))


@pytest.mark.parametrize("mode", ["lowpass", "highpass", "bandpass", "notch"])
@pytest.mark.parametrize("slope", [12, 24])
def test_filter_modes_close_where_they_should(mode, slope):
    noise = {"kind": "noise", "width_pct": 0}
    one = layer(sound=noise, filter=VoiceFilter(mode=mode, slope_db_oct=slope, cutoff_hz=1000.0, resonance=0.3))
    y = render_note(one, note(), gate_frames=4 * RATE, rate_hz=RATE, a4_hz=440.0)[0]
    raw = render_note(layer(sound=noise), note(), gate_frames=4 * RATE, rate_hz=RATE, a4_hz=440.0)[0]
    ratio = [np.mean(np.abs(np.fft.rfft(v[:180224].reshape(-1, 4096) * np.hanning(4096), axis=1)) ** 2, 0) for v in (y, raw)]  # fmt: skip
    db = lambda hz: 10 * np.log10(np.mean((ratio[0] / ratio[1])[round(hz / 1.1 * 4096 / RATE) : round(hz * 1.1 * 4096 / RATE) + 2]))  # noqa: E731  # fmt: skip
    low, middle, high = db(125), db(1000), db(8000)
    if mode == "lowpass":
        assert abs(low) < 1
        assert high == pytest.approx(-3 * slope, abs=4)
    elif mode == "highpass":
        assert abs(high) < 1
        assert low == pytest.approx(-3 * slope, abs=4)
    elif mode == "bandpass":
        assert middle > low + 10
        assert middle > high + 10
    else:
        assert middle < low - 8
        assert middle < high - 8


NOISE = {"kind": "noise", "width_pct": 0}
LOW = VoiceFilter(cutoff_hz=2500.0, resonance=0.5, slope_db_oct=24)
HIGH = VoiceFilter(mode="highpass", cutoff_hz=300.0, resonance=0.2)


def of_noise(**filters) -> np.ndarray:
    return render_note(layer(sound=NOISE, **filters), note(), gate_frames=4 * RATE, rate_hz=RATE, a4_hz=440.0)[0]


@pytest.mark.parametrize(
    ("filters", "both"),
    [({"filter": LOW}, lambda a, b: a), ({"filter": LOW, "filter2": HIGH}, lambda a, b: a * b), ({"filter": HIGH, "filter2": LOW}, lambda a, b: a * b), ({"filter2": HIGH}, lambda a, b: b), ({"filter": LOW, "filter2": HIGH, "filters_beside": True}, lambda a, b: (a + b) / 2), ({"filter": LOW, "filters_beside": True}, lambda a, b: a)],
)  # fmt: skip
def test_two_filters_do_what_their_picture_shows(filters, both):
    hz, raw = scipy.signal.welch(of_noise(), RATE, nperseg=8192)
    _, made = scipy.signal.welch(of_noise(**filters), RATE, nperseg=8192)
    some = (hz > 100) & (hz < 12000)

    def warped(f: np.ndarray | float) -> np.ndarray | float:
        """The bilinear form has at f what its prototype has here."""
        return RATE / np.pi * np.tan(np.pi * f / RATE)

    low, high = (
        analog_response(warped(hz[some]), f.mode, warped(f.cutoff_hz), f.resonance, filter_stages(f)) for f in (LOW, HIGH)
    )  # fmt: skip
    wanted = 20 * np.log10(np.abs(both(low, high)))
    np.testing.assert_allclose(10 * np.log10(made[some] / raw[some]), wanted, atol=0.7)


def test_side_by_side_is_the_mean_of_both_and_each_has_its_envelope():
    rises = Envelope(attack_ms=300.0, attack_curve=0.0, sustain=1.0)
    moving = HIGH.replace(envelope=rises, envelope_octaves=3.0)
    alone = of_noise(filter=LOW), of_noise(filter=moving)
    together = of_noise(filter=LOW, filter2=moving, filters_beside=True)
    np.testing.assert_allclose(together, 0.5 * (alone[0] + alone[1]), atol=1e-9)
    # In a row the second's envelope acts too, whatever the first's does.
    row = of_noise(filter=LOW, filter2=moving)
    early, late = row[2000:6000], row[RATE : RATE + 4000]
    assert np.mean(early**2) > 4 * np.mean(late**2)


def test_a_second_filter_is_moved_by_routes_and_goes_with_them():
    one = layer(
        sound=NOISE, filter=LOW, filter2=HIGH, routes=(Route(source="filter2", target="filter2.cutoff_hz", amount=2.0),)
    )
    assert "filter2.envelope.attack_ms" in layer_params(one)
    with pytest.raises(ValueError, match="cannot move 'filter2.cutoff_hz'"):
        layer(sound=NOISE, filter=LOW, routes=one.routes)
    source = InstrumentSource(layers=(one,))
    session = Session(
        rate_hz=RATE,
        song=Song(sections=(Section(id="a", name="A", bars=1),)),
        tracks=(Track(id="t", name="T", source=source),),
    )
    left = change_layer(session, "t", one.id, filter2=None)
    assert left.track("t").source.layers[0].routes == ()
    assert left.track("t").source.layers[0].filter == LOW


# --- faders, which come after a layer's chain ------------------------------------------------------------------------


def voices_of(one: Layer) -> np.ndarray:
    source = InstrumentSource(
        layers=(one,), phrases=(Phrase(id="p", beats=4, notes=(note(), note().replace(start_beat=2))),),
    )  # fmt: skip
    return render_layer(
        source, one, (Part(section="a", phrase="p"),), Song(sections=(Section(id="a", name="A", bars=1),)), RATE
    )


def test_level_and_pan_are_not_in_the_voices_and_alike_sides_are_one_row():
    plain = voices_of(layer())
    assert len(plain) == 1
    np.testing.assert_array_equal(voices_of(layer(level_db=-20.0, pan_pct=70.0)), plain)


def test_routes_move_level_and_pan_voice_by_voice():
    by_velocity = Route(source="velocity", target="level_db", amount=-6.0)
    quieter = voices_of(layer(routes=(by_velocity,), level_db=-20.0))
    np.testing.assert_allclose(quieter, voices_of(layer()) * 10 ** (-6.0 / 20), rtol=1e-9)
    placed = voices_of(layer(routes=(Route(source="velocity", target="pan_pct", amount=50.0),), pan_pct=-50.0))
    assert len(placed) == 1  # in the middle after all
    aside = voices_of(layer(routes=(Route(source="velocity", target="pan_pct", amount=125.0),)))
    assert np.max(np.abs(aside[0])) < 1e-12 < np.max(np.abs(aside[1]))


def test_a_one_sided_lfo_only_ever_pushes_and_its_delay_may_be_a_note_value():
    at_s = np.arange(0, 4.0, 1e-3)
    both = lfo_line(Lfo(rate=1.0), at_s, song_s=0.0, bpm=120.0, seed=0)
    one = lfo_line(Lfo(rate=1.0, one_sided=True), at_s, song_s=0.0, bpm=120.0, seed=0)
    assert (np.min(both), np.max(both)) == (pytest.approx(-1.0, abs=1e-3), pytest.approx(1.0, abs=1e-3))
    np.testing.assert_allclose(one, 0.5 + 0.5 * both)
    for bpm in (60.0, 150.0):
        waits = lfo_line(
            Lfo(rate=1.0, phase_deg=90.0, delay_ms="1/2", rise_ms="1/4"), at_s, song_s=0.0, bpm=bpm, seed=0
        )
        half = 2.0 * 60.0 / bpm  # two beats at this tempo
        assert np.all(waits[at_s < half] == 0.0)
        middle = lfo_line(Lfo(rate=1.0, phase_deg=90.0), at_s - half, song_s=0.0, bpm=bpm, seed=0)
        halfway = round(1000 * (half + 30.0 / bpm))
        assert waits[halfway] == pytest.approx(0.5 * middle[halfway], abs=0.01)
    with pytest.raises(ValueError, match="between 0 and 10000 ms"):
        Lfo(delay_ms=20000.0)
    with pytest.raises(ValueError, match="a note value looks like"):
        Lfo(rise_ms="1/0")
