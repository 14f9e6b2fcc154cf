"""The map: of each track and return, the share that each other one hides. A cell opens the pair."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from zygotone.advise.fit_views import MapOf
from zygotone.advise.masking import MaskingMap
from zygotone.app.desk import Desk
from zygotone.app.measuring import WhileVisible
from zygotone.app.stages.fit.view import FitView
from zygotone.app.widgets.basic import column, label, row, stretch
from zygotone.app.widgets.shares import Shares


class MapView(FitView):
    def __init__(self, desk: Desk, open_pair: Callable[[str, str], None], open_one: Callable[[str], None]) -> None:
        super().__init__(desk, "fit.map.page")
        self._open_pair, self._open_one = open_pair, open_one
        self._found: MaskingMap | None = None
        self.table = Shares(
            name="fit.map",
            accessible="Who hides whom: rows hide columns",
            say=self._say,
            chosen=self._chosen,
            row=17,
            steep=True,
        )
        self.table.setMinimumHeight(290)
        self.words = label("", "soft", wrap=True, name="fit.map.words")
        self.setLayout(
            column(
                row(label("rows hide columns, share in %; the last row is all others together", "soft"), 1),
                self.table,
                self.words,
                spacing=6,
            )
        )
        stretch(self, 1, 1)
        self._watch = WhileVisible(self, desk.measuring, self._question, self._show, urgency=4)

    def bring_up_to_date(self) -> None:
        self._watch.ask()

    @property
    def title(self) -> str:
        return "Who hides whom"

    def _question(self) -> MapOf:
        return MapOf(self.desk.bench.graph, self.desk.selection.section)

    def _name(self, strip_id: str) -> str:
        known = {s.id: s.name for s in self.desk.session.strips()}
        return known.get(strip_id, strip_id)

    def _show(self, found: MaskingMap) -> None:
        self._found = found
        names = [self._name(i) for i in found.strips]
        values = np.vstack([found.shares, found.against_all[None, :]]) if names else np.zeros((0, 0))
        self.table.show_values(
            [*names, "all others"] if names else [], names, values, empty="Nothing sounds in this section."
        )
        tracks = {t.id for t in self.desk.session.tracks}
        each = [
            (n, left)
            for i, n, left in zip(found.strips, names, found.left_lu, strict=True)
            if i in tracks and np.isfinite(left)
        ]
        lost = sorted(each, key=lambda one: one[1])
        least = ", ".join(name for name, _ in lost[:3])
        self.words.setText(f"Least heard among the others: {least}." if least else "")

    def _say(self, i: int, j: int) -> str:
        assert self._found is not None
        column_ = self._name(self._found.strips[j])
        if i == len(self._found.strips):
            return f"All others together hide {100 * self._found.against_all[j]:.0f} % of {column_}"
        return f"{self._name(self._found.strips[i])} hides {100 * self._found.shares[i, j]:.0f} % of {column_}. Enter opens the pair."

    def _chosen(self, i: int, j: int) -> None:
        assert self._found is not None
        if i == len(self._found.strips):
            self._open_one(self._found.strips[j])
        else:
            self._open_pair(self._found.strips[j], self._found.strips[i])
