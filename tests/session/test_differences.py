"""What two versions differ by, said and taken over."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zygotone.demo import build_demo
from zygotone.errors import ParameterError
from zygotone.session import edits
from zygotone.session.automation import Lane, Point
from zygotone.session.differences import differences, merged
from zygotone.session.models import Send

DEMO = build_demo().session


def _eq(session, strip="pad"):
    bands = [{"shape": "bell", "freq_hz": 400, "gain_db": -3}]
    return edits.insert_device(session, strip, edits.new_device(session.strip(strip), "eq", label="Seat", bands=bands))


CHANGES = {
    "Pad: level −20.6 dB → −12.0 dB": lambda s: edits.change_strip(s, "pad", level_db=-12.0),
    "Pad: Seat put in": _eq,
    "Lead: Compressor, ratio 2.50 :1 → 6 :1": lambda s: edits.change_device(s, "lead", "compressor", ratio=6.0),
    "Guitars: Presence taken out": lambda s: edits.remove_device(s, "guitars", "presence"),
    "Keys: muted": lambda s: edits.change_strip(s, "keys", mute=True),
    "Hats: pan 15 % → −30 %": lambda s: edits.change_strip(s, "hats", pan_pct=-30.0),
    "Snare: send to space −14.0 dB → −6.0 dB": lambda s: edits.set_send(s, "snare", "space", level_db=-6.0),
    "Keys: layer Warmth, polarity": lambda s: edits.change_layer(s, "keys", "warmth", polarity=False),
    "Song: tempo 92.0 → 100.0": lambda s: edits.change_song(s, tempo_bpm=100.0),
    "Bass: nudge 0 ms → 9 ms": lambda s: edits.change_strip(s, "bass", nudge_ms=9.0),
    "Pad: automation of level in chorus is new": lambda s: edits.put_lane(
        s, Lane(id="l", strip="pad", param="level_db", section="chorus", points=(Point(beat=0.0, value=-9.0),))
    ),
    "Voice is gone": lambda s: edits.remove_track(s, "voice"),
    "Effects is new": lambda s: edits.add_bus(s, "Effects"),
}


@pytest.mark.parametrize("sentence", CHANGES)
def test_a_change_is_said_and_taken_over(sentence):
    new = CHANGES[sentence](DEMO)
    found = differences(DEMO, new)
    assert sentence in [d.sentence for d in found], [d.sentence for d in found]
    assert merged(DEMO, new, [d.key for d in found]) == new
    assert merged(DEMO, new, ()) == DEMO


@settings(max_examples=25)
@given(st.sets(st.sampled_from(sorted(CHANGES)), min_size=2, max_size=6), st.data())
def test_any_part_of_any_changes(chosen, data):
    """Taken over in part, what is left differs by the rest; taken over wholly, nothing does."""
    new = DEMO
    for name in sorted(chosen):
        try:
            new = CHANGES[name](new)
        except (ParameterError, StopIteration):
            continue
    every = differences(DEMO, new)
    assert not differences(merged(DEMO, new, [d.key for d in every]), new)
    part = data.draw(st.sets(st.sampled_from([d.key for d in every]))) if every else set()
    half = merged(DEMO, new, part)
    assert {d.key for d in differences(half, new)} == {d.key for d in every} - part


def test_what_does_not_hold_together_is_refused():
    new = edits.set_send(edits.add_bus(DEMO, "Effects"), "lead", "effects", level_db=-6.0)
    keys = [d.key for d in differences(DEMO, new) if "send" in d.key]
    with pytest.raises(ParameterError, match="does not exist"):
        merged(DEMO, new, keys)
    assert (
        Send(to="effects", level_db=-6.0)
        in merged(DEMO, new, [d.key for d in differences(DEMO, new)]).track("lead").sends
    )
