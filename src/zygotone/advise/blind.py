"""A blind comparison (ABX): X is one of two, drawn anew each time; whoever hears a difference names it more often than by chance.

The number of answers is said before the first, and the result counts only when all are given: who may stop when it suits proves
nothing. (J. Boley and M. Lester, "Statistical analysis of ABX results using signal detection theory", 2009, from memory; the
probability is the exact binomial one.)
"""

from __future__ import annotations

import math
import random
from dataclasses import dataclass, field

from zygotone.errors import ParameterError

USUAL_ANSWERS = 12
LEAST, MOST = 5, 100
SURE = 0.05  # from which probability of chance on a difference is called heard (common practice)


def by_chance(correct: int, answers: int) -> float:
    """Probability of at least so many right answers by guessing: the sum of the binomial tail at one half."""
    if not 0 <= correct <= answers:
        raise ParameterError(f"{correct} right answers of {answers} are not possible")
    return sum(math.comb(answers, k) for k in range(correct, answers + 1)) / 2.0**answers


@dataclass
class Blind:
    """One comparison. ``x`` is which of both is hidden now, 0 or 1; who asks for it before answering spoils it."""

    answers: int = USUAL_ANSWERS
    draw: random.Random = field(default_factory=random.SystemRandom)
    given: list[bool] = field(default_factory=list)
    x: int = 0

    def __post_init__(self) -> None:
        if not LEAST <= self.answers <= MOST:
            raise ParameterError(f"a blind comparison has {LEAST} to {MOST} answers, not {self.answers}")
        self.x = self.draw.randrange(2)

    @property
    def done(self) -> bool:
        return len(self.given) >= self.answers

    @property
    def correct(self) -> int:
        return sum(self.given)

    @property
    def chance(self) -> float:
        """Probability of doing as well by guessing, of the answers given so far; 1 before the first."""
        return by_chance(self.correct, len(self.given))

    def answer(self, x_is: int) -> bool:
        """Whether it was right. Then another X is drawn.

        Raises
        ------
        ParameterError : all answers have been given.
        """
        if self.done:
            raise ParameterError("all answers have been given; begin another comparison")
        right = x_is == self.x
        self.given.append(right)
        self.x = self.draw.randrange(2)
        return right

    @property
    def verdict(self) -> str:
        """In words, once all answers are given."""
        if not self.done:
            return f"{self.answers - len(self.given)} answers to go; the result counts when all are given"
        odds = f"{self.correct} of {self.answers} right; by guessing that happens in {100 * self.chance:.1f} % of cases"
        return f"{odds}: a difference was heard" if self.chance <= SURE else f"{odds}: no difference was shown"
