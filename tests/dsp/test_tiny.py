"""What rings out into silence comes to nothing, and not to numbers that hold a processor up (IEEE 754, subnormal numbers)."""

import sys
import threading

import numpy as np
import pytest

from tests.devices.test_changes import KINDS, acting, arrays
from tests.devices.walking import HOST
from tests.signals import noise
from zygotone.devices import make_processor
from zygotone.dsp.onsets import Onsets
from zygotone.dsp.tiny import take_for_zero
from zygotone.engine.pipeline import at_once


def tiny_numbers(x: np.ndarray) -> int:
    return int(np.sum((x != 0.0) & (np.abs(x) < np.finfo(x.dtype).tiny))) if x.dtype.kind in "fc" else 0


def quarter() -> float:
    """0 where what is too small is taken for zero."""
    return sys.float_info.min / 4.0


def test_every_thread_takes_them_for_zero():
    found = [quarter(), *at_once([quarter, quarter, quarter])]
    thread = threading.Thread(target=lambda: found.append(quarter()))
    thread.start()
    thread.join()
    assert found == [0.0] * 5
    try:
        assert not take_for_zero(False)
        assert quarter() > 0.0
    finally:
        assert take_for_zero()
    assert quarter() == 0.0


@pytest.mark.parametrize("kind", KINDS)
def test_no_device_holds_up_in_the_silence_after_a_sound(kind):
    one = make_processor(acting(kind), HOST)
    takes_key = acting(kind).spec.takes_key
    for at in range(0, 4 * 48000, 480):
        x = noise(0.01, level=0.4, seed=at) if at < 9600 else np.zeros((2, 480))
        one.position = at
        out = one.process(x.copy(), x.copy() if takes_key else None)
        assert tiny_numbers(out) == 0
        if at % 4800 == 0:
            assert {place: n for place, (_, _, array) in arrays(one).items() if (n := tiny_numbers(array))} == {}


def test_hits_are_found_as_quickly_in_silence():
    finder = Onsets(48000)
    for at in range(40):
        finder.process(noise(0.1, level=0.4) if at < 2 else np.zeros((2, 4800)))
        assert not any(tiny_numbers(array) for array in (finder._filters, finder._follow, finder._since))
