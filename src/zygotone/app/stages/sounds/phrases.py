"""What can be done with whole phrases: the menu beside the one that is shown."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from PySide6.QtWidgets import QInputDialog, QWidget

from zygotone.app.desk import Desk
from zygotone.app.kept import ask_and_keep, open_kept
from zygotone.app.widgets.asking import Entry, Menu, ask_numbers
from zygotone.session import phrase_edits
from zygotone.session.clipboard import CopiedPhrase
from zygotone.session.edits import set_part
from zygotone.session.instruments import InstrumentSource, Phrase
from zygotone.session.models import Session


class PhraseHost(Protocol):
    """The tab of notes, as its menu knows it."""

    desk: Desk

    @property
    def phrase(self) -> Phrase | None: ...
    @property
    def source(self) -> InstrumentSource | None: ...
    def new_phrase(self) -> None: ...
    def look_at(self, phrase_id: str) -> None: ...
    def cut_beat(self) -> float: ...
    def paste(self) -> None: ...


class PhraseMenu:
    def __init__(self, host: PhraseHost, parent: QWidget) -> None:
        self._host, self._parent = host, parent

    def entries(self) -> Menu:
        host = self._host
        phrase, source = host.phrase, host.source
        found: list[Entry | str | None] = [
            ("New phrase", "sounds.phrase.new", host.new_phrase),
            ("From the library…", "sounds.phrase.kept", lambda: open_kept(self._parent, host.desk, "phrase", host.paste)),
        ]  # fmt: skip
        if phrase is None or source is None:
            return found
        desk, track = host.desk, host.desk.selection.track_id
        played = phrase_edits.sections_that_play(desk.session, track, phrase.id)
        if len(played) > 1:
            names = ", ".join(desk.song.section(s).name for s in played)
            found += [
                f"{phrase.id} is played by {names}",
                ("Own copy here", "sounds.phrase.own", self.own_copy),
            ]
        found += [
            None,
            ("Duplicate", "sounds.phrase.duplicate", self.duplicate),
            ("Rename…", "sounds.phrase.rename", self.rename),
            ("Twice as long, repeated", "sounds.phrase.double", self.double),
            ("Split at the caret", "sounds.phrase.split", self.split),
            ("Copy bars…", "sounds.phrase.bars", self.copy_bars),
            ("Keep in the library…", "sounds.phrase.keep", self.keep),
            ("Remove", "sounds.phrase.remove", self.remove),
        ]
        others = [p.id for p in source.phrases if p.id != phrase.id]
        if others:
            found.append("Join with")
            found += [
                (other, f"sounds.phrase.join.{other}", lambda other=other: self.join(other)) for other in others[:20]
            ]  # fmt: skip
        return found

    def _edit(self, what: str, change: Callable[[Session, str, str], tuple[Session, str] | Session]) -> None:
        """``change`` is given session, track and phrase, and says which phrase is to be looked at then."""
        host, phrase = self._host, self._host.phrase
        if phrase is None:
            return
        track = host.desk.selection.track_id

        def edit(session: Session) -> tuple[Session, str]:
            made = change(session, track, phrase.id)
            return (made, phrase.id) if isinstance(made, Session) else made

        seen = host.desk.make(what, edit)
        if seen is not None:
            host.look_at(seen)

    def own_copy(self) -> None:
        section = self._host.desk.selection.section.id
        self._edit("Own copy here", lambda s, track, phrase: phrase_edits.own_copy(s, track, section, phrase))

    def duplicate(self) -> None:
        """The copy is played here in the place of the phrase that was: else it could not be seen."""
        section = self._host.desk.selection.section.id

        def change(session: Session, track: str, phrase: str) -> tuple[Session, str]:
            session, copy = phrase_edits.duplicate_phrase(session, track, phrase)
            return set_part(session, track, section, copy), copy

        self._edit("Duplicate phrase", change)

    def rename(self) -> None:
        phrase = self._host.phrase
        if phrase is None:
            return
        text, good = QInputDialog.getText(self._parent, "Rename phrase", "Name of this phrase:", text=phrase.id)
        if good:
            self._edit("Rename phrase", lambda s, track, held: phrase_edits.rename_phrase(s, track, held, text))

    def double(self) -> None:
        self._edit("Twice as long", phrase_edits.doubled)

    def split(self) -> None:
        at = self._host.cut_beat()

        def change(session: Session, track: str, phrase: str) -> Session:
            return phrase_edits.split_phrase(session, track, phrase, at)[0]

        self._edit("Split phrase", change)

    def join(self, other: str) -> None:
        self._edit("Join phrases", lambda s, track, phrase: phrase_edits.join_phrases(s, track, phrase, other))

    def copy_bars(self) -> None:
        phrase = self._host.phrase
        if phrase is None:
            return
        bars = max(1, round(phrase.beats / self._host.desk.song.bar_beats))
        asked = (("From bar", 1, 1, bars), ("Bars", 1, 1, bars), ("To bar", min(bars, 2), 1, 999))
        told = "The notes of these bars take the place of those that are there. The phrase grows where it must."
        numbers = ask_numbers(self._parent, "Copy bars", told, asked)
        if numbers is not None:
            self._edit("Copy bars", lambda s, track, held: phrase_edits.copy_bars(s, track, held, *numbers))

    def keep(self) -> None:
        phrase = self._host.phrase
        if phrase is not None:
            ask_and_keep(self._parent, self._host.desk, CopiedPhrase(phrase=phrase), phrase.id)

    def remove(self) -> None:
        self._edit("Remove phrase", phrase_edits.remove_phrase)
