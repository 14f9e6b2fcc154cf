"""Decibels, sliding maxima: the small kernels that others are made of; how kernels are kept."""

import subprocess
import sys

import numpy as np
import scipy.ndimage
from hypothesis import given, settings
from hypothesis import strategies as st

from zygotone.dsp.decibels import FLOOR_DB, db_to_gains, levels_to_db
from zygotone.dsp.sliding import SlidingMaximum


@settings(deadline=None)
@given(st.lists(st.floats(0.0, 1e6), min_size=1, max_size=40))
def test_levels_are_those_of_the_logarithm(values):
    level, db = np.array(values), np.empty(len(values))
    levels_to_db(level, db)
    np.testing.assert_allclose(db, 20.0 * np.log10(np.maximum(level, 10.0 ** (FLOOR_DB / 20.0))), atol=1e-9)


@settings(deadline=None)
@given(st.lists(st.floats(-300.0, 300.0), min_size=1, max_size=40))
def test_gains_are_those_of_the_exponential(values):
    db, gain = np.array(values), np.empty(len(values))
    db_to_gains(db, gain)
    np.testing.assert_allclose(gain, 10.0 ** (db / 20.0), rtol=1e-10)
    assert np.all(gain[db == 0.0] == 1.0)  # an idle device is idle to the last bit


@settings(deadline=None)
@given(window=st.integers(1, 40), cuts=st.lists(st.integers(0, 200), max_size=6), seed=st.integers(0, 99))
def test_the_sliding_maximum_is_that_of_scipy_however_it_is_cut(window, cuts, seed):
    x = np.random.default_rng(seed).standard_normal(200)
    sliding = SlidingMaximum(window)
    got = np.concatenate([sliding.process(part) for part in np.split(x, sorted(cuts))])
    padded = np.concatenate([np.full(window, -np.inf), x])
    wanted = scipy.ndimage.maximum_filter1d(padded, window, origin=(window - 1) // 2, mode="nearest")[window:]
    np.testing.assert_array_equal(got, wanted)


HALF = """
import numpy as np
from zygotone.dsp.compile import kernel

SHARE, TABLE = 0.5, np.array([0.0, 0.0])

@kernel
def half(x):
    out = np.empty(x.shape)
    for k in range(x.shape[0]):
        out[k] = SHARE * x[k] + TABLE[k]
    return out
"""
QUARTERS = """
import sys
import numpy as np
from half import half
from zygotone.dsp.compile import kernel

@kernel
def quarters(x):
    quarter = half(half(x))
    return quarter, quarter[0] + quarter[1], max(quarter[0], quarter[1])

print(quarters(np.array([8.0, 16.0])), "numba.typed.typeddict" in sys.modules)
"""


def test_what_was_compiled_is_loaded_without_the_compiler_while_nothing_in_it_has_changed(tmp_path):
    quarters, half = tmp_path / "quarters.py", tmp_path / "half.py"
    quarters.write_text(QUARTERS)
    half.write_text(HALF)

    def printed() -> str:
        return subprocess.run([sys.executable, quarters], check=True, capture_output=True, text=True).stdout.strip()

    as_it_was = "(array([2., 4.]), 6.0, 4.0)"
    assert printed() == f"{as_it_was} True"
    assert printed() == f"{as_it_was} False"
    half.write_text(HALF.replace("SHARE * x[k]", "2.0 * x[k]"))  # in another file than what calls it
    assert printed() == "(array([32., 64.]), 96.0, 64.0) True"
    half.write_text(HALF.replace("= 0.5, np.array([0.0,", "= 1.0, np.array([1.0,"))  # and what that takes for given
    assert printed() == "(array([10., 16.]), 26.0, 16.0) True"
    half.write_text("# Nothing that counts.\n" + HALF.replace("= 0.5, np.array([0.0,", "= 1.0, np.array([1.0,"))
    assert printed() == "(array([10., 16.]), 26.0, 16.0) False"
