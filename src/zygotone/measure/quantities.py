"""Every measured quantity, declared once: its name in files, its words, unit and digits, and which way is better.

Evidence, readings, JSON, log, tiles and docs read these; a measure that is new is one more row.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from zygotone.errors import ParameterError

Better = Literal["higher", "lower", "near", ""]  # near: close to a target that the reader knows; "": neither


@dataclass(frozen=True, slots=True)
class Quantity:
    name: str  # key in evidence, readings and JSON
    label: str
    unit: str
    digits: int  # after the point, when it is shown
    better: Better
    help: str

    @property
    def shown_times(self) -> float:
        """By what a value is multiplied to be shown in its unit: shares are counted from 0 to 1."""
        return 100.0 if self.unit == "%" else 1.0

    def to_json(self) -> dict[str, object]:
        return {
            "name": self.name,
            "label": self.label,
            "unit": self.unit,
            "digits": self.digits,
            "better": self.better,
            "help": self.help,
        }

    def text(self, value: float, *, signed: bool = False) -> str:
        """As it is shown, with its unit: ``−1.4 dB``; of a change ``signed``, with its plus."""
        number = f"{value * self.shown_times:{'+' if signed else ''}.{self.digits}f}"
        if float(number) == 0.0:
            number = f"{0.0:.{self.digits}f}"
        return f"{number} {self.unit}".strip().replace("-", "−")


_QUANTITIES: dict[str, Quantity] = {}


def quantity(name: str, label: str, unit: str, digits: int, better: Better, help_: str) -> Quantity:
    """Declares a quantity.

    Raises
    ------
    ParameterError : the name is taken.
    """
    if name in _QUANTITIES:
        raise ParameterError(f"there are two quantities {name!r}")
    _QUANTITIES[name] = Quantity(name, label, unit, digits, better, help_)
    return _QUANTITIES[name]


def forget_quantity(name: str) -> None:
    """Takes a quantity out again."""
    del _QUANTITIES[name]


def find_quantity(name: str) -> Quantity:
    """Raises ParameterError for an unknown one, naming the nearest."""
    try:
        return _QUANTITIES[name]
    except KeyError:
        near = difflib.get_close_matches(name, _QUANTITIES, n=1, cutoff=0.3)
        raise ParameterError(
            f"there is no quantity {name!r}" + (f"; did you mean {near[0]}?" if near else "")
        ) from None


def all_quantities() -> Iterator[Quantity]:
    return iter(_QUANTITIES.values())


for _row in (
    # level
    ("integrated_lufs", "Loudness", "LUFS", 1, "near", "Integrated loudness by ITU-R BS.1770-4 and EBU R 128."),
    ("loudness_range_lu", "Loudness range", "LU", 1, "", "How far loudness moves, by EBU Tech 3342."),
    ("momentary_max_lufs", "Loudest 400 ms", "LUFS", 1, "", "The largest momentary loudness."),
    ("short_term_max_lufs", "Loudest 3 s", "LUFS", 1, "", "The largest short-term loudness."),
    ("true_peak_dbtp", "True peak", "dBTP", 1, "lower", "The largest value between the samples, by BS.1770-4."),
    ("mix_dbtp", "Mix peak", "dBTP", 1, "lower", "True peak of the mix."),
    ("sample_peak_dbfs", "Peak", "dBFS", 1, "lower", "The largest sample."),
    ("rms_dbfs", "RMS", "dBFS", 1, "", "Root mean square, against a full-scale square."),
    ("crest_db", "Crest", "dB", 1, "", "Peak over RMS."),
    ("level_db", "Level", "dB", 1, "", "A fader."),
    ("flat_tops", "Cut-off tops", "", 0, "lower", "Places where three samples or more in a row stand at the very top."),
    # what a device did
    ("loudness_change_lu", "Loudness", "LU", 1, "", "After it less before it."),
    ("crest_change_db", "Crest", "dB", 1, "", "After it less before it."),
    ("centroid_change_hz", "Brightness (centroid)", "Hz", 0, "", "After it less before it."),
    ("deepest_db", "Deepest change", "dB", 1, "", "Of a gain that moves, where it is furthest from 0."),
    ("reduced_share", "Time at work", "%", 0, "", "Share of the time in which such a gain is more than 0.3 dB from 0."),
    # stereo
    ("correlation", "Correlation", "", 2, "higher", "Of left and right: 1 is mono, 0 independent, below 0 against each other."),
    ("side_share", "Side share", "%", 0, "", "Power of the difference of both sides, of all power."),
    ("side_share_low", "Side share below 100 Hz", "%", 0, "lower", "The same below 100 Hz."),
    ("below_hz", "below", "Hz", 0, "", "Where low ends, for what stands beside it."),
    ("fold_down_loss_lu", "Lost in mono", "LU", 1, "lower", "Loudness lost when both sides become one."),
    # spectrum and time
    ("centroid_hz", "Brightness (centroid)", "Hz", 0, "", "The centre of gravity of the spectrum."),
    ("fundamental_hz", "Fundamental", "Hz", 1, "", "The pitch that is heard."),
    ("wanted_hz", "Nearest consonant", "Hz", 1, "", "The pitch of the key nearest to it that is consonant with it."),
    ("cents_off", "Away from the nearest consonant", "cents", 0, "lower", "Distance from there."),
    ("attack_ms", "Attack", "ms", 1, "", "From a tenth to nine tenths of the level, at onsets."),
    ("mud_db", "200 to 500 Hz over its neighbours", "dB", 1, "lower", "Mean of the third octaves there over the octave below and the two above."),
    # kick and bass
    ("kick_hz", "Kick fundamental", "Hz", 1, "", "Of the kick's body, after its drop."),
    ("bass_hz", "Bass fundamental", "Hz", 1, "", "Of the notes that sound with the kick."),
    ("onset_gap_ms", "Bass after kick", "ms", 1, "near", "Median; below 0 the bass is first."),
    ("kick_clear_db", "Kick clear of bass", "dB", 1, "higher", "Kick over bass in the kick's band in its first 100 ms, over the hits where both sound."),
    ("kick_clear_share", "Hits that are clear", "%", 0, "higher", "Share of those hits at which the kick is 3 dB clear."),
    ("kick_clear_worst_db", "Worst tenth of them under", "dB", 1, "higher", "A tenth of the hits is less clear than this."),
    ("click_clear_db", "Click over the bass above 1.5 kHz", "dB", 1, "higher", "In the first 5 ms of hits with which a bass note begins."),
    ("bass_lufs", "Bass loudness", "LUFS", 1, "", "Loudness of the bass track."),
    ("bass_lost_lu", "Bass lost", "LU", 1, "lower", "How much quieter the bass becomes."),
    ("pumping_db", "Pumping", "dB", 1, "lower", "How far a gain moves with the beat, beyond what the material asks for."),
    # how tracks fit
    ("loudness_lufs", "Loudness", "LUFS", 1, "", "Integrated loudness of a track, alone."),
    ("audible_lufs", "Audible part", "LUFS", 1, "higher", "Loudness that a track alone would have to have to be as loud as it is among the others."),
    ("loudness_left_lu", "Softer among the others", "LU", 1, "higher", "How much softer a track seems among the others than alone."),
    ("covered_share", "Hidden between 1 and 5 kHz", "%", 0, "lower", "Share of what a track has there that others mask."),
    ("hides_share", "Hides of the others", "%", 0, "lower", "Share of all others of the same seat or a better one that a track masks alone."),
    ("shared_share", "In one place at once", "%", 0, "lower", "Of what two tracks have at 8 to 12 kHz, the share where both are, within 6 dB of each other."),
    ("tail_share", "Hidden by the tail", "%", 0, "lower", "Share of a track that a return masks."),
    ("return_mud_db", "Returns against the dry mix, 200 to 500 Hz", "dB", 1, "lower", "Level of what comes back from the effects there, over that of all else."),
    ("lost_lu", "Lost at most", "LU", 1, "lower", "What the track that loses most loses of its loudness."),
    ("mix_change_lu", "Mix", "LU", 1, "", "Change of the mix's loudness."),
    ("definition_db", "80 to 250 Hz over 40 to 80 Hz", "dB", 1, "higher", "Where the notes of a bass are told apart, over where they are only felt."),
    ("sub_gap_db", "Second low track under the first", "dB", 1, "higher", "Levels from 30 to 80 Hz, while both sound."),
    ("rumble_db", "Below its lowest note", "dB", 1, "lower", "Level under the lowest note of a track, against all of it."),
    ("rumble_cost_db", "Turned down by the rumble", "dB", 1, "lower", "How much less a compressor turns down without what lies under the lowest note."),
    ("lowest_hz", "Lowest note", "Hz", 1, "", "The lowest that is played."),
    ("low_part_db", "Low part against the bass", "dB", 1, "lower", "Level below 150 Hz of a chord part, over that of the bass."),
    # tone
    ("boxy_db", "Sticks out, 250 to 900 Hz", "dB", 1, "lower", "A narrow peak that stays, over the smoothed spectrum of the track itself."),
    ("harsh_db", "Sticks out, 2 to 6 kHz", "dB", 1, "lower", "A narrow peak that stays, over the smoothed spectrum of the track itself."),
    ("top_db", "Above 6 kHz against the mix's middle", "dB", 1, "lower", "Level of a track there, over that of the mix from 1 to 4 kHz."),
    ("sibilance_db", "Hiss of consonants", "dB", 1, "lower", "Level of 5 to 10 kHz over that of 1 to 4 kHz, at the consonants."),
    ("low_share_db", "Below 400 Hz", "dB", 1, "lower", "Of a cymbal, against all of it."),
    ("hiss_lift_db", "Hiss lifted by the chain", "dB", 1, "lower", "How much louder the quiet moments come out above 5 kHz than the loud ones do."),
    # dynamics
    ("attack_lost_db", "Attack lost in the chain", "dB", 1, "lower", "First 12 ms of hits over what follows, before the chain less after it."),
    ("flatness_db", "Crest under what is usual", "dB", 1, "lower", "How far peak over RMS is under the range usual for the role."),
    ("spikes_db", "Crest over what is usual", "dB", 1, "lower", "How far peak over RMS is over the range usual for the role."),
    ("jump_db", "Loudest hit over the usual one", "dB", 1, "lower", "Peak of the loudest hit over the median of all."),
    ("over_spread_lu", "Varies more than usual by", "LU", 1, "lower", "Over the most that is usual for the role."),
    ("spread_lu", "Varies by", "LU", 1, "lower", "From the softest to the loudest tenth of 400 ms, while it sounds."),
    ("chatter_per_s", "Gate flutters", "/s", 1, "lower", "How often a second a gate opens without a hit."),
    # balance
    ("over_place_lu", "Over its usual place", "LU", 1, "lower", "How far a track is over the range usual for its role, against the lead."),
    ("under_place_lu", "Under its usual place", "LU", 1, "lower", "How far a track is under the range usual for its role, against the lead."),
    ("apart_lu", "Lead and voice apart", "LU", 1, "lower", "Difference of their loudness."),
    ("backing_lu", "Backing against the lead voice", "LU", 1, "lower", "Loudness of a voice of a lower seat, over that of the first."),
    ("drums_over_lu", "Drums over all else", "LU", 1, "lower", "Loudness of all drums, over that of all other tracks."),
    ("lean_db", "Leans", "dB", 1, "lower", "Level of the louder side over the other."),
    ("lean_band_db", "Leans in one octave", "dB", 1, "lower", "The same in the octave where it is most."),
    ("mono_loss_lu", "Lost in mono", "LU", 1, "lower", "Loudness of a track that is lost when both sides become one."),
    ("over_peak_db", "Between the samples over full scale", "dB", 1, "lower", "How far the true peak goes over 0 dBTP."),
    ("dc_dbfs", "Offset", "dBFS", 0, "lower", "Mean of the samples."),
    ("clicks_per_min", "Clicks", "/min", 1, "lower", "Single steps far out of what lies around them."),
    # layers
    ("cancel_db", "Sum against both alone, worst band", "dB", 1, "higher", "Level of the sum, against the power sum of both, in the worst third octave."),
    ("at_hz", "at", "Hz", 0, "", "Where, for what stands beside it."),
    ("later_ms", "Best offset", "ms", 2, "", "By which they agree best."),
    ("hidden_share", "Hidden", "%", 0, "lower", "Share of what would be heard of it alone that others mask."),
    ("added_db", "Adds at most", "dB", 1, "higher", "Largest change of a third octave when it comes in."),
    ("over_lead_lu", "Louder than the lead layer", "LU", 1, "lower", "Of a layer that supports another."),
    ("share", "Share where it belongs", "%", 0, "higher", "Of a layer's power, in the range of its job."),
    ("low_gap_db", "Second sub under the first", "dB", 1, "higher", "Levels from 20 to 80 Hz."),
):  # fmt: skip
    quantity(*_row)
