"""What signal processing remembers between blocks, and how a successor takes it over."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np


class Memory:
    """Base of everything with state.

    ``remembers`` names the arrays that are the state; other ``Memory`` objects held (also in lists) have theirs. All
    else is made from the parameters. The arrays of one object belong together (a ring and the place to write in it), so
    they are taken over together where every shape agrees, or none of them.
    """

    remembers: ClassVar[tuple[str, ...]] = ()

    def adopt(self, older: Any) -> bool:
        """Take over the memory of an object of the same kind whose parameters differ. False where not all of it fits,
        so that something begins afresh here."""
        whole = self._fits(older)
        if whole:
            for name in self.remembers:
                setattr(self, name, getattr(older, name).copy())
        for name, mine in vars(self).items():
            theirs = vars(older).get(name)
            if isinstance(mine, Memory):
                whole = type(mine) is type(theirs) and mine.adopt(theirs) and whole
            elif isinstance(mine, list) and isinstance(theirs, list):
                whole = whole and len(mine) == len(theirs)
                for one, other in zip(mine, theirs, strict=False):
                    if isinstance(one, Memory):
                        whole = type(one) is type(other) and one.adopt(other) and whole
            elif isinstance(theirs, Memory):
                whole = False
        return whole

    def _fits(self, older: Any) -> bool:
        """Whether all arrays of this object can be taken over."""
        for name in self.remembers:
            mine, theirs = getattr(self, name, None), getattr(older, name, None)
            if not isinstance(mine, np.ndarray) or not isinstance(theirs, np.ndarray):
                return False
            if mine.shape != theirs.shape or mine.dtype != theirs.dtype:
                return False
        return True
