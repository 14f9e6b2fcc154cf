"""What is selected: a track, a device of it, and the sections that are looped. The same in every stage."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QObject, Signal

from zygotone.engine.bench import Bench
from zygotone.session.models import Section, Session, walk


class Selection(QObject):
    changed = Signal()  # the track or the device
    loop_changed = Signal()

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self.reset(bench)

    def reset(self, bench: Bench) -> None:
        """To what one looks at first in a project; tells nobody."""
        self._bench = bench
        session = bench.session
        self.track_id: str = session.tracks[0].id if session.tracks else session.mix.id
        self.also: frozenset[str] = frozenset()  # further tracks that what is done to several is done to
        self.device_id: str | None = None
        self.loop: tuple[str, ...] = (_busiest_section(session).id,)

    def follow(self) -> None:
        """After an edit: what is gone is not selected any more."""
        session = self._bench.session
        if self.track_id not in {s.id for s in session.strips()}:
            self.track_id = session.tracks[0].id if session.tracks else session.mix.id
            self.device_id = None
        self.also &= {s.id for s in session.strips()}
        chain = session.strip(self.track_id).chain
        if self.device_id not in {path for path, _ in walk(chain)}:
            self.device_id = chain[0].id if chain else None
        sections = {s.id for s in session.song.sections}
        if not sections.issuperset(self.loop):
            self.loop = (_busiest_section(session).id,)

    @property
    def tracks(self) -> frozenset[str]:
        """All that are selected: the one that the stages show, and those beside it."""
        return self.also | {self.track_id}

    def toggle_track(self, track_id: str) -> None:
        """Beside those that are selected, or not any more."""
        if track_id != self.track_id:
            self.also ^= {track_id}
            self.changed.emit()

    def tracks_to(self, track_id: str) -> None:
        """All from the selected one to this."""
        ids = [s.id for s in self._bench.session.strips()]
        first, last = sorted((ids.index(self.track_id), ids.index(track_id)))
        self.tracks_beside(ids[first : last + 1])

    def tracks_beside(self, track_ids: Iterable[str]) -> None:
        """These are selected too, and no others."""
        self.also = frozenset(track_ids) - {self.track_id}
        self.changed.emit()

    def track(self, track_id: str) -> None:
        if track_id != self.track_id or self.also:
            self.track_id, self.also = track_id, frozenset()
            chain = self._bench.session.strip(track_id).chain
            self.device_id = chain[0].id if chain else None
            self.changed.emit()

    def device(self, path: str | None) -> None:
        if path != self.device_id:
            self.device_id = path
            self.changed.emit()

    def set_loop(self, section_ids: tuple[str, ...]) -> None:
        self.loop = section_ids
        self.loop_changed.emit()

    @property
    def section(self) -> Section:
        """The section that is measured: the first of the loop."""
        return self._bench.session.song.section(self.loop[0])

    def loop_span(self) -> tuple[int, int]:
        """Frames from the first looped section's start to the last one's end."""
        spans = [self._bench.session.section_span(section) for section in self.loop]
        return min(s for s, _ in spans), max(e for _, e in spans)


def _busiest_section(session: Session) -> Section:
    """A chorus; or the longest, of several the one in the middle of the song, where most of it plays."""
    sections = session.song.sections
    longest = [s for s in sections if s.bars == max(each.bars for each in sections)]
    return next((s for s in sections if "chorus" in s.name.lower()), longest[len(longest) // 2])
