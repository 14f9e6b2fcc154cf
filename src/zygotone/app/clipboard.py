"""Cut, copy and paste through the desktop's clipboard, as open text; so it also goes from one window to another."""

from __future__ import annotations

from PySide6.QtWidgets import QApplication

from zygotone.app.desk import Desk
from zygotone.errors import ZygotoneError
from zygotone.session.clipboard import WORDS, Copied, CopiedTrack, What, as_text, from_text, with_clips
from zygotone.session.models import Session


def copy(desk: Desk, what: What, said: str) -> None:
    """``said`` is what it is called: ``3 notes``, ``the chain of Bass``."""
    try:
        QApplication.clipboard().setText(as_text(what, desk.session, desk.store))
    except ZygotoneError as error:  # a clip's file is gone
        desk.refuse(str(error))
        return
    desk.message.emit(f"Copied {said}.")


def copied(desk: Desk) -> Copied | None:
    """What is in the clipboard; None, with a message, where nothing of ours is."""
    try:
        found = from_text(QApplication.clipboard().text())
    except ZygotoneError as error:
        desk.refuse(f"{str(error)[:1].upper()}{str(error)[1:]}.")
        return None
    if found is None:
        desk.refuse("There is nothing to paste: copy notes, devices, layers, automation or a track first.")
    return found


def holds_track() -> bool:
    """Whether it is a track; says nothing."""
    try:
        found = from_text(QApplication.clipboard().text())
    except ZygotoneError:
        return False
    return found is not None and isinstance(found.what, CopiedTrack)


def cannot_go_here(desk: Desk, found: Copied, wanted: str) -> None:
    desk.refuse(f"The clipboard holds {WORDS[found.what.type]}; here go {wanted}.")


def with_its_clips(desk: Desk, session: Session, found: Copied) -> tuple[Session, What]:
    """The session with the clips that a paste needs. Raises ParameterError where one is missing."""
    return with_clips(session, found, desk.store)


def counted(count: int, word: str) -> str:
    """``1 note``, ``3 notes``."""
    return f"{count} {word}{'s' if count != 1 else ''}"
