"""Asks how a track is to be bounced, has it done in the background, and puts the result into the song."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QComboBox, QDialog, QDialogButtonBox, QFormLayout, QWidget

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import column, label
from zygotone.reports.bounce_in_place import HOWS, SPANS, Bounce, Bounced, BounceSpec, with_bounce
from zygotone.session.audio_files import AudioData
from zygotone.session.models import InstrumentSource, Session, Track


class BounceDialog(QDialog):
    def __init__(self, parent: QWidget, track: Track, section_id: str, section_name: str) -> None:
        super().__init__(parent)
        self.setObjectName("bounce")
        self.setWindowTitle(f"Bounce {track.name}")
        self._track_id, self._section_id = track.id, section_id
        self.span, self.how, self.place, self.made = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        for key, words in SPANS.items():
            if key != "phrase" or isinstance(track.source, InstrumentSource):
                self.span.addItem(words, key)
        self.span.setCurrentIndex(1)
        for how, words in HOWS.items():
            self.how.addItem(words, how)
        self.how.setCurrentIndex(1)
        self.place.addItem("where it was", False)
        self.place.addItem(f"so that it ends where {section_name} begins", True)
        self.made.addItem("a clip on a new track", False)
        self.made.addItem("a sample that a new track plays", True)
        form = QFormLayout()
        for words, name, box in (
            ("What", "span", self.span), ("How", "how", self.how), ("It is put", "place", self.place), ("It becomes", "made", self.made),
        ):  # fmt: skip
            box.setObjectName(f"bounce.{name}")
            box.setAccessibleName(words)
            form.addRow(words, box)
        self.reverse, self.keep = QCheckBox("Backwards"), QCheckBox("Leave the original as it is")
        for name, check in (("reverse", self.reverse), ("keep", self.keep)):
            check.setObjectName(f"bounce.{name}")
        self.keep.setToolTip("Else it is muted, or plays no more where it was bounced")
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        told = f"Makes audio of {track.name} as it is heard; {section_name} is the section that is looped."
        self.setLayout(
            column(label(told, "soft", wrap=True), form, self.reverse, self.keep, buttons, spacing=10, margins=(14, 12, 14, 12))
        )  # fmt: skip

    def spec(self) -> BounceSpec:
        return BounceSpec(
            self._track_id, self._section_id, self.span.currentData(), self.how.currentData(), self.reverse.isChecked(),
            self.place.currentData(), self.made.currentData(), self.keep.isChecked(),
        )  # fmt: skip


def ask_and_bounce(parent: QWidget, desk: Desk) -> None:
    """Of the selected track."""
    track = next((t for t in desk.session.tracks if t.id == desk.selection.track_id), None)
    if track is None:
        desk.refuse("Choose a track to bounce; buses are not.")
        return
    section = desk.selection.section
    dialog = BounceDialog(parent, track, section.id, section.name)
    if dialog.exec() == QDialog.DialogCode.Accepted:
        bounce(desk, dialog.spec())


def reversed_swell(desk: Desk) -> None:
    """The first bar of the section, with all it sends, backwards, so that it ends where the section begins."""
    track_id, section = desk.selection.track_id, desk.selection.section
    bounce(desk, BounceSpec(track_id, section.id, "bar", "sends", reverse=True, before=True, keep=True))


def bounce(desk: Desk, spec: BounceSpec) -> None:
    """Rendered in the background; put in on top of whatever was done meanwhile."""
    asked_of = desk.session

    def done(bounced: Bounced) -> None:
        if desk.session.song != asked_of.song or desk.session.rate_hz != asked_of.rate_hz:
            bounce(desk, spec)  # tempo or sections are others now: what was rendered has no place
            return
        name = next((t.name for t in desk.session.tracks if t.id == spec.track_id), None)
        if name is None:
            desk.message.emit("The track that was bounced is gone.")
            return

        def put(session: Session) -> tuple[Session, str]:
            asset = desk.store.add(AudioData(bounced.audio, session.rate_hz, "FLOAT", "WAV"), f"{name} bounce", session.rate_hz)  # fmt: skip
            return with_bounce(session, spec, bounced, asset)

        made = desk.make(f"Bounce {name}", put)
        if made is not None:
            desk.selection.track(made)
            desk.message.emit(f"{name} is bounced to {desk.session.track(made).name}.")

    desk.measuring.ask(Bounce(asked_of, spec), done, urgency=1)
