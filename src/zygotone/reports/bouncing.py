"""A sound and a MIDI file become an audio file."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from zygotone.engine.playing import play_notes
from zygotone.errors import BadFileError
from zygotone.music.midi_files import read_midi
from zygotone.session.audio_files import resample, write_audio
from zygotone.session.models import SAMPLE_RATES, Note
from zygotone.session.saved_sounds import load_sound


def bounce_file(
    instrument: Path, notes: Path, out: Path, *, tempo_bpm: float | None = None, rate_hz: int = 48000,
    subtype: str | None = None,
) -> int:  # fmt: skip
    """Play the notes of a MIDI file with a sound. The file's tempo map holds unless ``tempo_bpm`` is given. Returns how
    many samples were over full scale; a FLOAT file keeps them.

    Raises
    ------
    BadFileError : one of the files cannot be used.
    """
    if rate_hz not in SAMPLE_RATES:
        raise BadFileError(out, "rate", f"can be one of {', '.join(map(str, SAMPLE_RATES))} Hz, not {rate_hz}")
    sound, clips = load_sound(instrument)
    song = read_midi(notes)
    audio_of = {name: resample(clip.stereo(), clip.rate_hz, rate_hz) for name, clip in clips.items()}
    played = []
    for n in song.notes:
        if tempo_bpm is None:
            start, end = song.beat_to_seconds(n.start_beat), song.beat_to_seconds(n.start_beat + n.length_beats)
        else:
            start, end = (b * 60.0 / tempo_bpm for b in (n.start_beat, n.start_beat + n.length_beats))
        note = Note(
            start_beat=n.start_beat, length_beats=n.length_beats, pitch=n.pitch, velocity=n.velocity, wheel=n.wheel
        )
        played.append((start, end - start, note))
    bpm = tempo_bpm if tempo_bpm is not None else song.tempos[0].bpm
    audio = play_notes(sound.instrument(), played, rate_hz=rate_hz, bpm=bpm, clip=audio_of.__getitem__)
    over = int(np.count_nonzero(np.abs(audio) > 1.0))
    write_audio(out, audio, rate_hz, subtype=subtype or "PCM_24")
    return over
