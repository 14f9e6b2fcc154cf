"""What a hand would else wait for, loaded while nobody waits: kernels that pictures and edits call in the window's own process."""

from __future__ import annotations

import threading

import numpy as np
from PySide6.QtCore import QObject, QTimer

from zygotone.app.theme import application
from zygotone.devices import Host, make_processor
from zygotone.dsp.dynamics import static_curve
from zygotone.session.catalogue import DEVICES
from zygotone.session.instruments import LFO_SHAPES, Envelope, Lfo
from zygotone.session.kinds import Device
from zygotone.sources.envelopes import envelope_curve
from zygotone.sources.modulation import lfo_heights

_AFTER_MS = 4000  # what comes first has begun to play and to be measured by then


def load_what_is_called_here() -> None:
    """Each is called once, for nothing but its being there the next time."""
    envelope_curve(Envelope(), 100, 1000)
    for shape in LFO_SHAPES:
        lfo_heights(Lfo(shape=shape), np.linspace(0.0, 2.0, 8))
    static_curve(np.array([-20.0]), threshold_db=-30.0, ratio=2.0, knee_db=6.0)
    host = Host(48000)
    for kind in DEVICES:  # the graph of an edit asks each device how late it is
        if not kind.holds_chains:
            make_processor(Device.model_validate({"kind": kind.kind}), host)


class Preloading(QObject):
    """Once, in a thread of its own, some time after the start."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.thread_of_it = threading.Thread(target=load_what_is_called_here, name="preloading", daemon=True)
        QTimer.singleShot(_AFTER_MS, self, self._begin)
        application().aboutToQuit.connect(self._end)

    def _begin(self) -> None:
        self.thread_of_it.start()

    def _end(self) -> None:
        """It does not load on while the interpreter is taken down."""
        if self.thread_of_it.is_alive():
            self.thread_of_it.join()
