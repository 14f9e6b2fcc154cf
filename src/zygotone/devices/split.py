"""Parallel branches, each with a chain of its own. The engine lays them out as nodes; see ``engine/graph.py``."""

from __future__ import annotations

import math

from zygotone.session.catalogue import DEVICES, Kind
from zygotone.session.params import Param, level

_HALF_DB = -20.0 * math.log10(2.0)

BRANCH = (
    level("gain_db", "Level", -60.0, 24.0, 0.0, "How loud the branch is in the sum."),
    Param(name="devices", label="Devices", type="list", entries="device", max_items=32, default=(), help="The branch's own chain."),
)  # fmt: skip

KIND = DEVICES.enter(
    Kind(
        kind="split",
        purpose="place",
        holds_chains=True,
        title="Split",
        summary="Runs several chains side by side, in step to the frame, and adds them up.",
        # Two like branches add up to 6 dB more than either: so it changes nothing as it is put in.
        usual={"branches": [{"gain_db": _HALF_DB}, {"gain_db": _HALF_DB}]},
        params=(
            Param(
                name="branches", label="Branches", type="list", items=BRANCH, max_items=8, default=(),
                help="The branches; none is a plain wire, one that is empty is the dry signal.",
            ),
        ),
    )
)  # fmt: skip
