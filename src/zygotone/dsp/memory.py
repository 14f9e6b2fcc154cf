"""What signal processing remembers between blocks, and how a successor takes it over."""

from __future__ import annotations

from typing import Any

import numpy as np


class Memory:
    """Base of everything with state. Arrays whose names end in ``state``, and other ``Memory`` objects held (also in
    lists), are what is remembered; everything else is made from the parameters."""

    def adopt(self, older: Any) -> None:
        """Take over the memory of an object of the same kind whose parameters differ, wherever the shapes fit."""
        for name, theirs in vars(older).items():
            mine = vars(self).get(name)
            if isinstance(theirs, np.ndarray):
                if name.endswith("state") and isinstance(mine, np.ndarray) and mine.shape == theirs.shape:
                    setattr(self, name, theirs.copy())
            elif isinstance(theirs, Memory):
                if type(mine) is type(theirs):
                    mine.adopt(theirs)
            elif isinstance(theirs, list) and isinstance(mine, list):
                for one, other in zip(mine, theirs, strict=False):
                    if isinstance(other, Memory) and type(one) is type(other):
                        one.adopt(other)
