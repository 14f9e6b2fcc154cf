"""What can be done with tracks: new ones, copies, their order, out with them; and several at a time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QInputDialog, QWidget

from zygotone.app import clipboard
from zygotone.app.bouncing import ask_and_bounce, reversed_swell
from zygotone.app.desk import Desk
from zygotone.app.widgets.asking import Entry, Menu
from zygotone.factory import factory_sounds
from zygotone.session import copies
from zygotone.session.audio_files import AUDIO_SUFFIXES
from zygotone.session.clipboard import CopiedTrack
from zygotone.session.edits import change_strip, remove_track
from zygotone.session.models import ROLES, Role, Session, Strip, Track
from zygotone.session.saved_sounds import SavedSound


class TrackActions:
    """``take_files`` brings in stems, in the way of the stage that does so; ``record`` takes from an input."""

    def __init__(
        self, desk: Desk, parent: QWidget, take_files: Callable[[list[Path]], None], record: Callable[[], None]
    ) -> None:
        self._desk, self._parent, self._take_files, self._record = desk, parent, take_files, record

    # --- what is meant -------------------------------------------------------------------------------------

    @property
    def chosen(self) -> tuple[Track, ...]:
        """The selected tracks, in their order."""
        wanted = self._desk.selection.tracks
        return tuple(t for t in self._desk.session.tracks if t.id in wanted)

    def _named(self, tracks: Sequence[Strip]) -> str:
        return tracks[0].name if len(tracks) == 1 else clipboard.counted(len(tracks), "track")

    def _make(self, what: str, change: Callable[[Session], tuple[Session, str]]) -> None:
        """An edit that makes a track, which is selected then."""
        made = self._desk.make(what, change)
        if made is not None:
            self._desk.selection.track(made)

    # --- new -----------------------------------------------------------------------------------------------

    def new_entries(self) -> Menu:
        """Role by role: silent and plain, with a factory sound, or from a file."""
        found: list[Entry | str | None] = []
        for role in ROLES:
            sounds = [sound for sound in factory_sounds() if sound.role == role]
            inner: list[Entry | str | None] = [("Empty", f"tracks.new.{role}.empty", lambda r=role: self.new(r)), None]
            inner += [
                (sound.name, f"tracks.new.{role}.{n}", lambda r=role, s=sound: self.new(r, s))
                for n, sound in enumerate(sounds)
            ]
            found.append((role.capitalize(), f"tracks.new.{role}", inner))
        return (
            *found, None, ("From audio files…", "tracks.new.files", self.from_files),
            ("From an input…", "tracks.new.input", self._record), ("Paste track", "tracks.paste", self.paste),
        )  # fmt: skip

    def new(self, role: Role, sound: SavedSound | None = None) -> None:
        after = self._after()
        self._make(
            f"New {role} track", lambda s: copies.new_track(s, role, sound, name=sound.name if sound else "", after=after)
        )  # fmt: skip
        if sound is None:
            self._desk.stage_wanted.emit("sounds")
            self._desk.message.emit("A silent track. Add a layer, or choose a sound from the library.")

    def _after(self) -> str | None:
        """New tracks stand after the selected one."""
        track = self._desk.selection.track_id
        return track if any(t.id == track for t in self._desk.session.tracks) else None

    def from_files(self) -> None:
        pattern = " ".join(f"*{s}" for s in AUDIO_SUFFIXES)
        files, _ = QFileDialog.getOpenFileNames(self._parent, "New tracks from files", "", f"Audio ({pattern})")
        if files:
            self._take_files([Path(f) for f in files])

    # --- of the selected ones ------------------------------------------------------------------------------

    def entries(self) -> Menu:
        section = self._desk.selection.section
        return (
            ("Duplicate", "tracks.duplicate", self.duplicate),
            ("Duplicate without notes", "tracks.duplicate.bare", lambda: self.duplicate(notes=False)),
            (f"Duplicate only in {section.name}", "tracks.duplicate.here", lambda: self.duplicate(only_in=section.id)),
            None,
            ("Copy", "tracks.copy", self.copy),
            ("Paste after", "tracks.paste.after", self.paste),
            None,
            ("Bounce… (Ctrl+B)", "tracks.bounce", self.bounce),
            (f"Reversed swell into {section.name}", "tracks.swell", lambda: reversed_swell(self._desk)),
            None,
            ("Rename…", "tracks.rename", self.rename),
            ("Up", "tracks.up", lambda: self.move(-1)),
            ("Down", "tracks.down", lambda: self.move(1)),
            None,
            ("Remove", "tracks.remove", self.remove),
        )

    def duplicate(self, *, notes: bool = True, only_in: str | None = None) -> None:
        tracks = self.chosen
        if not tracks:
            self._desk.refuse("Buses and the mix are not duplicated; choose a track.")
            return

        def change(session: Session) -> tuple[Session, str]:
            made = ""
            for track in tracks:
                session, made = copies.duplicate_track(session, track.id, notes=notes, only_in=only_in)
            return session, made

        self._make(f"Duplicate {self._named(tracks)}", change)

    def copy(self) -> None:
        tracks = self.chosen
        if len(tracks) != 1:
            self._desk.refuse("Choose one track to copy.")
            return
        track = tracks[0]
        what = CopiedTrack(track=track, lanes=copies.lanes_of(self._desk.session, track.id))
        clipboard.copy(self._desk, what, f"the track {track.name}")

    def cut(self) -> None:
        if len(self.chosen) == 1:
            self.copy()
            self.remove()

    def paste(self) -> None:
        found = clipboard.copied(self._desk)
        if found is None:
            return
        if not isinstance(found.what, CopiedTrack):
            clipboard.cannot_go_here(self._desk, found, "tracks")
            return
        after = self._after()

        def change(session: Session) -> tuple[Session, str]:
            session, what = clipboard.with_its_clips(self._desk, session, found)
            assert isinstance(what, CopiedTrack)
            return copies.paste_track(session, what.track, what.lanes, after=after)

        self._make("Paste track", change)

    def rename(self) -> None:
        strip = self._desk.session.strip(self._desk.selection.track_id)
        text, good = QInputDialog.getText(self._parent, "Rename", "Name of this track:", text=strip.name)
        name = text.strip()[:120]
        if good and name and name != strip.name:
            self._desk.edit("Rename track", lambda s: change_strip(s, strip.id, name=name))

    def move(self, steps: int) -> None:
        """The selected ones together, past the next that is not."""
        tracks = self._desk.session.tracks
        chosen = {t.id for t in self.chosen}
        places = [at for at, t in enumerate(tracks) if t.id in chosen]
        if places:
            to = places[0] - 1 if steps < 0 else places[-1] + 2
            self.put_at(max(0, min(len(tracks), to)))

    def put_at(self, to: int) -> None:
        """Before the track that is at place ``to`` now."""
        ids = [t.id for t in self.chosen]
        if ids:
            self._desk.edit("Move track", lambda s: copies.move_tracks(s, ids, to))

    def remove(self) -> None:
        tracks = self.chosen

        def change(session: Session) -> Session:
            for track in tracks:
                session = remove_track(session, track.id)
            return session

        if tracks:
            self._desk.edit(f"Remove {self._named(tracks)}", change)

    def select_all(self) -> None:
        """All tracks, beside the one that is shown."""
        self._desk.selection.tracks_beside(t.id for t in self._desk.session.tracks)

    def bounce(self) -> None:
        ask_and_bounce(self._parent.window(), self._desk)

    def toggle(self, name: str) -> None:
        """Mute or solo: all of the selected as the first is to be."""
        desk = self._desk
        strips = [s for s in desk.session.strips() if s.id in desk.selection.tracks and s.id != desk.session.mix.id]
        if not strips:
            return
        on = not getattr(desk.session.strip(desk.selection.track_id), name)

        def change(session: Session) -> Session:
            for strip in strips:
                session = change_strip(session, strip.id, **{name: on})
            return session

        desk.edit(name.capitalize(), change)
