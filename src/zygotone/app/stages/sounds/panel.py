"""What the tabs of the Sounds stage have in common."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QWidget

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, clear, column, row
from zygotone.app.widgets.lanes import automation_offer
from zygotone.app.widgets.ruler import Choice, Fields, Ruler
from zygotone.session.instruments import InstrumentSource, Layer, Phrase, layer_params
from zygotone.session.models import Session, Track
from zygotone.session.params import Param

_COLUMNS = 4
Moves = tuple[str | None, str]  # a device of the layer's chain, or none, and a parameter's path


class Host(Protocol):
    """The stage, as its tabs know it."""

    desk: Desk

    @property
    def track(self) -> Track | None: ...
    @property
    def source(self) -> InstrumentSource | None: ...
    @property
    def layer(self) -> Layer | None: ...
    @property
    def phrase(self) -> Phrase | None: ...
    def kept(self) -> tuple[InstrumentSource | None, Layer | None]: ...
    def show_all(self) -> None: ...
    def open_lane(self, device: str | None, path: str) -> None: ...
    def change(self, what: str, layer_id: str | None = None, *, merge: object = "value", **changes: Any) -> None: ...
    def change_by(self, what: str, change: Callable[[Session], Session], layer_id: str, *, merge: object) -> None: ...


class Panel(QWidget):
    """One tab: ``build`` makes its fields when what they stand for (``shape``) has changed, and ``show_values`` fills them.

    ``keeps`` are widgets that outlive a rebuild.
    """

    keeps: tuple[QWidget, ...] = ()

    def __init__(self, stage: Host) -> None:
        super().__init__()
        self.stage, self.desk = stage, stage.desk
        self._layout = column(spacing=6)
        self.setLayout(self._layout)
        self._parts = Fields(self)
        self._fields: list[tuple[Any, Callable[[Any, Any], Any]]] = []  # a field, and its value by instrument and layer
        self._movable: list[tuple[Ruler, Moves]] = []
        self._made_for: object = None

    # --- for each tab to say -------------------------------------------------------------------------------

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        """What the fields depend on, other than on track and layer."""
        return ()

    def build(self, source: InstrumentSource, layer: Layer | None) -> None:
        """The fields; of a tab that is about a layer, ``make`` says which."""
        if layer is not None:
            self.make(source, layer)

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        raise NotImplementedError

    def show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        """What is drawn, beside the fields; ``kept`` is the layer in A while there is a trial."""

    def take_focus(self) -> None:
        """Who comes by keyboard is at its first field."""
        widget = self.nextInFocusChain()
        while widget is not None and widget is not self:
            if self.isAncestorOf(widget) and widget.focusPolicy() & Qt.FocusPolicy.TabFocus:
                widget.setFocus(Qt.FocusReason.ShortcutFocusReason)
                return
            widget = widget.nextInFocusChain()

    # --- for the stage -------------------------------------------------------------------------------------

    def show_values(self, source: InstrumentSource, layer: Layer | None) -> None:
        wanted = (self.desk.selection.track_id, layer.id if layer else None, self.shape(source, layer))
        if wanted != self._made_for:
            self._made_for = wanted
            for each in self.keeps:
                each.setParent(None)
            self._parts.take_back()
            clear(self._layout)
            self._fields, self._movable = [], []
            self.build(source, layer)
        kept_source, kept_layer = self.stage.kept()
        trial = self.desk.bench.trial is not None
        for field, read in self._fields:
            try:
                old = read(kept_source, kept_layer) if trial else None
            except (AttributeError, KeyError, IndexError, TypeError):
                old = None
            field.show_value(read(source, layer), old)
        if layer is not None:
            session, track_id = self.desk.session, self.desk.selection.track_id
            for ruler, (device, path) in self._movable:
                ruler.show_moves(session.automated_range(track_id, path, device=device, layer=layer.id))
        self.show_pictures(layer, kept_layer if trial else None)

    # --- for building --------------------------------------------------------------------------------------

    @property
    def track(self) -> Track | None:
        return self.stage.track

    @property
    def source(self) -> InstrumentSource | None:
        return self.stage.source

    @property
    def layer(self) -> Layer | None:
        return self.stage.layer

    @property
    def the_layer(self) -> Layer:
        """Of a panel that is shown, which it is only for a layer."""
        layer = self.layer
        assert layer is not None
        return layer

    @property
    def phrase(self) -> Phrase | None:
        return self.stage.phrase

    def change(self, what: str, *, merge: object = "value", **changes: Any) -> None:
        self.stage.change(what, merge=merge, **changes)

    def add(self, widget: QWidget) -> None:
        self._layout.addWidget(widget)
        widget.show()  # one that was kept may have been hidden with its old place; not before it is here, or it is a window

    def add_cells(self, cells: list[QWidget]) -> None:
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(4)
        for i in range(_COLUMNS):
            grid.setColumnStretch(i, 1)
        self._layout.addLayout(grid)
        self._parts.put(cells, grid, _COLUMNS)

    def field(
        self,
        p: Param,
        name: str,
        change: Callable[[Any], None],
        read: Callable[[Any, Any], Any],
        moves: str | Moves | None = None,
    ) -> QWidget:
        """``moves`` is the parameter's path in its layer, where automation would find it; or a device of the layer's chain and
        the path in that."""
        if p.has_range:
            ruler = self._parts.ruler(
                p, f"sounds.{name}", on_change=change, on_release=self.desk.end_merge,
                bpm=lambda: self.desk.song.tempo_bpm, on_error=self.desk.message.emit,
            )  # fmt: skip
            if moves is not None:
                where: Moves = (None, moves) if isinstance(moves, str) else moves
                if where[0] is not None or where[1] in layer_params(self.the_layer):
                    self._movable.append((ruler, where))
                    ruler.offers = automation_offer(lambda: self.stage.open_lane(*where))
            made: Ruler | Choice = ruler
        else:
            made = self._parts.choice(p, f"sounds.{name}", on_change=change)
        self._fields.append((made, read))
        return made

    def layer_field(self, p: Param) -> QWidget:
        return self.field(
            p,
            p.name,
            lambda v, n=p.name, w=p.label: self.change(w, **{n: v}),
            lambda i, e, n=p.name: getattr(e, n),
            p.name,
        )

    def chooser(self, words: tuple[str, ...], chosen: str, name: str, pick: Callable[[str], None]) -> QWidget:
        box = QWidget()
        box.setLayout(row(*(button(w, f"sounds.{name}.{w.lower().replace(' ', '-')}", lambda v=w: pick(v), kind="chosen" if w == chosen else "") for w in words), 1, spacing=4))  # fmt: skip
        return box
