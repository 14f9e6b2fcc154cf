"""The blind comparison: its probability against SciPy's, and that its answers cannot be guessed."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import binomtest

from zygotone.advise.blind import Blind, by_chance
from zygotone.errors import ParameterError


@given(st.integers(0, 100).flatmap(lambda n: st.tuples(st.integers(0, n), st.just(n))))
def test_the_probability_is_the_exact_binomial_one(both):
    correct, answers = both
    if answers:
        assert by_chance(correct, answers) == pytest.approx(
            binomtest(correct, answers, 0.5, alternative="greater").pvalue
        )


def test_nine_of_ten_is_sure_and_seven_is_not():
    # The usual table of ABX: 9 of 10 right are 1.1 % by chance, 7 of 10 are 17.2 %.
    assert by_chance(9, 10) == pytest.approx(0.0107, abs=1e-4)
    assert by_chance(7, 10) == pytest.approx(0.1719, abs=1e-4)


def test_who_hears_it_is_believed_and_who_guesses_is_not():
    heard = Blind(12)
    while not heard.done:
        heard.answer(heard.x)
    assert "a difference was heard" in heard.verdict
    sure = 0
    for seed in range(400):
        test, guess = Blind(12, random.Random(seed)), random.Random(10_000 + seed)
        while not test.done:
            test.answer(guess.randrange(2))
        sure += "was heard" in test.verdict
    assert sure < 0.05 * 400 + 10


def test_it_says_nothing_before_all_answers_and_takes_no_more_after():
    test = Blind(5)
    for _ in range(4):
        test.answer(test.x)
        assert "to go" in test.verdict
    test.answer(test.x)
    with pytest.raises(ParameterError):
        test.answer(0)
    with pytest.raises(ParameterError):
        Blind(2)


def test_the_draw_is_even():
    test = Blind(100)
    xs = []
    while not test.done:
        xs.append(test.x)
        test.answer(0)
    assert 20 < sum(xs) < 80
