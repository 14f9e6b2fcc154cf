"""What is heard: version A or B, a track alone or the mix, and the thread that plays it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from zygotone.advise.questions import Match
from zygotone.app.selection import Selection
from zygotone.app.work import Worker
from zygotone.dsp.giving_up import IsUnwanted
from zygotone.engine.bench import Bench
from zygotone.engine.coming_take import RecordingPlan
from zygotone.engine.ears import Listen
from zygotone.engine.graph import Graph, compile_session
from zygotone.engine.measurer import Answers, Question
from zygotone.engine.remote import RemotePlayer
from zygotone.engine.renderer import Renderer
from zygotone.engine.standby import Standby
from zygotone.engine.stream import Player, Version
from zygotone.engine.transport import Output, SimulatedOutput, Transport
from zygotone.session.edits import only

_SOON_S = 1.0  # for so long what is on its way to the player goes on though there is a newer one


class Listening(QObject):
    changed = Signal()  # A or B, alone or not, playing or not
    message = Signal(str)
    taken = Signal(object)  # a take that was recorded

    def __init__(
        self,
        bench: Bench,
        renderer: Renderer,
        selection: Selection,
        answers: Answers,
        standby: Standby | None = None,
        *,
        own_process: bool = True,
    ) -> None:
        super().__init__()
        self._own_process, self._answers, self._standby = own_process, answers, standby
        # What is played must not wait for what is measured, so it has a thread of its own.
        self.worker = Worker()
        self.worker.failed.connect(self.message)
        self.selection = selection
        self._listen = Listen()
        self._recorded = False
        self._take(bench, renderer, SimulatedOutput())

    def _take(self, bench: Bench, renderer: Renderer, output: Output) -> None:
        self._bench = bench
        rate_hz = bench.session.rate_hz
        self.player: Player | RemotePlayer
        self.transport: Transport | RemotePlayer
        if self._own_process:
            held = getattr(self, "player", None)
            if isinstance(held, RemotePlayer):
                held.reset(renderer, rate_hz)
            else:
                self.player = self.transport = RemotePlayer(renderer, rate_hz, output, self._answers, self._standby)
        else:
            self.player = Player(renderer, rate_hz)
            self.transport = Transport(self.player, output)
            self.transport.listen(self._listen)
        self.heard = 0  # 0 is A, 1 is B
        self.alone = False  # whether the selected track is heard alone
        self._alone: dict[int, tuple[Graph, str, Graph]] = {}  # of A and B: of which graph and track, and what that is
        self._match: Match | None = None
        self._compared: tuple[tuple[Graph, Graph], Match] | None = None  # two others that are heard instead of A and B

    def listen(self, wanted: Listen) -> None:
        """How what is played is listened to, in this project and in the next."""
        self._listen = wanted
        self.transport.listen(wanted)

    def reset(self, bench: Bench, renderer: Renderer) -> None:
        """Another project; what played stops."""
        output = self.transport.output
        self.transport.recorder.open(None)
        self._recorded = False
        self.transport.stop()
        self.worker.cancel("play")
        self._take(bench, renderer, output)

    def look_after(self) -> None:
        """Called now and then: a player that died or hangs is started anew, with what plays now."""
        if isinstance(self.player, RemotePlayer) and self.player.look_after():
            self.message.emit("The player had stopped; it was started again where it was. Nothing is lost.")
        recorder = self.transport.recorder
        if self._recorded and not recorder.recording:
            self._recorded = False
            self.follow_loop()
            self.changed.emit()
        if (taken := recorder.look()) is not None:
            self.taken.emit(taken)
        if recorder.error:
            self.message.emit(recorder.error)
            recorder.error = None

    # --- versions ------------------------------------------------------------------------------------------

    def heard_graphs(self) -> tuple[Graph, Graph | None]:
        """A and B as they are played: with the selected track alone, if wanted; or two others that are compared."""
        if self._compared is not None:
            return self._compared[0]
        bench = self._bench
        b = bench.trial_graph
        return self._as_heard(0, bench.kept_graph), None if b is None else self._as_heard(1, b)

    def _as_heard(self, which: int, graph: Graph) -> Graph:
        session, track_id = graph.session, self.selection.track_id
        known = {strip.id for strip in session.strips()} - {session.mix.id}
        if not self.alone or track_id not in known:
            return graph
        held = self._alone.get(which)
        if held is None or held[0] is not graph or held[1] != track_id:
            self._alone[which] = held = (graph, track_id, compile_session(only(session, track_id), graph))
        return held[2]

    def compare(self, graphs: tuple[Graph, Graph] | None, match: Match | None = None) -> None:
        """Two versions are heard in the place of A and B, at equal loudness, until this is called with None."""
        if graphs is None and self._compared is None:
            return
        self._compared = None if graphs is None or match is None else (graphs, match)
        if self._compared is None and self._bench.trial is None and self.heard == 1:
            self.heard = 0
            self.player.choose(0)
        self.play_versions()
        self.changed.emit()

    def match_levels(self, match: Match | None) -> None:
        self._match = match
        if match is not None:
            self.play_versions()

    def follow(self) -> None:
        """After an edit: the ear is to hear it at once."""
        if self._bench.trial is None and self._compared is None and self.heard == 1:
            self.heard = 0
            self.player.choose(0)
            self.changed.emit()
        self.play_versions()

    def play_versions(self) -> None:
        """Hand the versions to the player; where a source has to be rendered first, in the background. What is on its way there is
        not wanted any more where the newest can be heard at once; else it is heard first, if that is soon: so the ear follows a
        hand that does not pause."""
        match = self._match if self._compared is None else self._compared[1]
        a_graph, b_graph = self.heard_graphs()
        a = Version(a_graph, match.a_gain_db if match else 0.0)
        b = None if b_graph is None else Version(b_graph, match.b_gain_db if match and match.b else a.gain_db)
        player = self.player
        if player.is_ready_for(a, b):
            self.worker.cancel("play")
            player.set_versions(a, b)
            return

        def prepare(unwanted: IsUnwanted) -> None:
            player.set_versions(a, b, unwanted=unwanted)

        self.worker.submit("play", prepare, lambda _: None, urgency=0, goes_on_s=_SOON_S)

    def hear_alone(self, alone: bool) -> None:
        """Hear the selected track alone, or in the mix; nothing of the session changes."""
        if alone != self.alone:
            self.alone = alone
            self.play_versions()
            self.changed.emit()

    def on_other_track(self) -> None:
        if self.alone:
            self.play_versions()
            self.changed.emit()

    def hear(self, index: int) -> None:
        if self._bench.trial is None and self._compared is None:
            index = 0
        if index != self.heard:
            self.heard = index
            self.player.choose(index)
            self.changed.emit()

    def swap(self) -> None:
        if self._bench.trial is None:
            self.message.emit("A and B are the same while nothing is on trial.")
            return
        self.hear(1 - self.heard)

    # --- transport -----------------------------------------------------------------------------------------

    @property
    def playing(self) -> bool:
        """Whether the song plays; notes played by hand are heard without it."""
        return self.transport.playing and self.player.rolling

    def follow_loop(self) -> None:
        """What is looped goes round; a take goes on where it is."""
        if not self.recording:
            self.player.set_loop(*self.selection.loop_span())

    @property
    def recording(self) -> bool:
        return self._recorded and self.transport.recorder.recording

    def record(self, plan: RecordingPlan) -> None:
        """From the input that is open; the take comes by ``taken``."""
        self._recorded = True
        self.transport.recorder.record(plan)
        self.changed.emit()

    def toggle_play(self) -> None:
        if self.recording:
            self.transport.recorder.stop()
        elif self.playing:
            self.transport.stop()
        else:
            self.player.rolling = True
            self._play()
        self.changed.emit()

    def wake_for_notes(self) -> None:
        """Let notes played by hand be heard, where nothing plays yet."""
        if not self.transport.playing:
            self.player.rolling = False
            self._play()

    def _play(self) -> None:
        self.transport.play()
        if self.transport.error:
            self.message.emit(self.transport.error)

    def ask(self, question: Question, done: Callable[[Any], None]) -> None:
        """Has audio that is to be heard at once worked out in the background; of one name only the newest."""
        answers = self._answers
        self.worker.submit(
            question.name, lambda unwanted: answers.answer(question, unwanted, at_once=True), done, urgency=0
        )

    def stop(self) -> None:
        self.transport.stop()

    def close(self) -> None:
        self.alone = False  # nothing is begun anew as the stage goes
        self.transport.recorder.open(None)
        self.transport.stop()
        self.worker.close()
        if isinstance(self.player, RemotePlayer):
            self.player.close()
