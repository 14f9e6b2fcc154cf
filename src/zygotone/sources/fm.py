"""Four sine operators that bend each other's phase."""

from __future__ import annotations

import functools
import math

import numpy as np

from zygotone.dsp.oscillators import OPERATORS, bend_phases
from zygotone.dsp.oversampling import lowered
from zygotone.dsp.types import GRID_FRAMES, FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Param, Values, at_start, choice, defaults, number, share
from zygotone.sources.base import C4_HZ, NoteRequest, source
from zygotone.sources.envelopes import envelope_line

OPERATOR = (
    number("ratio", "Ratio", "×", 0.125, 32.0, 1.0, "Its frequency over the note's.", scale="log"),
    number("fixed_hz", "Fixed", "Hz", 0.0, 12000.0, 0.0, "A frequency of its own, whatever the note; 0 follows the ratio."),
    number("detune_cents", "Detune", "cents", -100.0, 100.0, 0.0, "A little above or below."),
    share("level", "Level", 1.0, "How loud it is where it is heard."),
    number("index", "Index", "rad", 0.0, 16.0, 1.0, "How far it bends the phase of what it feeds, at its envelope's height."),
    at_start(number("attack_ms", "Attack", "ms", 0.0, 5000.0, 1.0, "Time from nothing to full.")),
    at_start(number("decay_ms", "Decay", "ms", 1.0, 20000.0, 600.0, "Time from full to its sustain.")),
    at_start(share("sustain", "Sustain", 1.0, "Where it stays while the note is held.")),
    at_start(number("release_ms", "Release", "ms", 1.0, 20000.0, 200.0, "Time to nothing after the note.")),
    at_start(share("velocity", "Velocity", 0.3, "How much softer notes have less of it; 1 leaves nothing at the softest.")),
    at_start(number("key_scale", "Key scale", "", 0.0, 1.0, 0.3, "How much higher notes have less of it: 1 halves it every octave above C4.")),
)  # fmt: skip

# Who bends whom, as (from, to), counted from 1; and who is heard. Operators without an arrow into them stand alone.
ALGORITHMS: dict[str, tuple[tuple[tuple[int, int], ...], tuple[int, ...]]] = {
    "chain": (((4, 3), (3, 2), (2, 1)), (1,)),
    "fork": (((4, 2), (3, 2), (2, 1)), (1,)),
    "two into one": (((4, 3), (3, 1), (2, 1)), (1,)),
    "pairs": (((2, 1), (4, 3)), (1, 3)),
    "three into one": (((2, 1), (3, 1), (4, 1)), (1,)),
    "one into three": (((4, 1), (4, 2), (4, 3)), (1, 2, 3)),
    "pair and two": (((4, 3),), (1, 2, 3)),
    "side by side": ((), (1, 2, 3, 4)),
}

KIND = Kind(
    kind="fm",
    picture="operators",
    title="Operators (FM)",
    summary="Four sines that bend each other's phase, each with its envelope: bells, electric pianos, basses, brass.",
    params=(
        choice("algorithm", "Algorithm", (*ALGORITHMS, "matrix"), "pairs", "Which operator bends which, and which are heard; matrix lets you say."),
        at_start(number("feedback", "Feedback", "rad", 0.0, 1.5, 0.0, "How far operator 4 bends itself.")),
        Param(
            name="operators", label="Operators", type="list", items=OPERATOR, max_items=OPERATORS,
            default=(
                defaults(OPERATOR).replace(index=0.0),
                defaults(OPERATOR).replace(index=1.5, sustain=0.4, velocity=0.6),
                defaults(OPERATOR).replace(index=0.0, level=0.0),
                defaults(OPERATOR).replace(ratio=14.0, index=0.4, decay_ms=80.0, sustain=0.0, velocity=0.9),
            ),
            help="The four operators, first to last; one that is not listed is silent.",
        ),
        Param(
            name="matrix", label="Matrix", type="list", entries="plain", max_items=16, default=(),
            items=(number("amount", "Amount", "", 0.0, 1.0, 0.0, "Share of the index that gets through."),),
            help="For the algorithm matrix: 16 amounts, who bends (row) by whom it is bent (column), the diagonal for feedback.",
        ),
        Param(
            name="heard", label="Heard", type="list", entries="plain", max_items=4, default=(),
            items=(number("amount", "Amount", "", 0.0, 1.0, 0.0, "Share of the operator that is heard."),),
            help="For the algorithm matrix: how much of each operator is heard.",
        ),
    ),
)  # fmt: skip


def connections(params: Values) -> tuple[FloatArray, FloatArray]:
    """Who bends whom, (4, 4) as shares [from, to], and how much of each is heard, (4,)."""
    matrix, heard = np.zeros((OPERATORS, OPERATORS)), np.zeros(OPERATORS)
    if params["algorithm"] == "matrix":
        flat = np.zeros(OPERATORS * OPERATORS)
        flat[: len(params["matrix"])] = params["matrix"]
        matrix[:] = flat.reshape(OPERATORS, OPERATORS)
        heard[: len(params["heard"])] = params["heard"]
        return matrix, heard
    arrows, carriers = ALGORITHMS[params["algorithm"]]
    for a, b in arrows:
        matrix[a - 1, b - 1] = 1.0
    for a in carriers:
        heard[a - 1] = 1.0
    return matrix, heard


@functools.lru_cache(maxsize=256)
def _feedback_below(wanted: float, harmonic: int) -> float:
    """The most feedback, up to ``wanted``, whose partial of that number is 80 dB down. The n-th partial of a sine that bends
    itself by b is 2·Jₙ(n·b)/(n·b) (A. Benjamin and others on Kepler's equation; the same series)."""
    import scipy.special

    b = np.linspace(0.0, wanted, 61)[1:]
    partial = 2.0 * np.abs(scipy.special.jv(harmonic, harmonic * b)) / (harmonic * b)
    below = b[partial < 1e-4]
    return float(below[-1]) if len(below) else 0.0


def sidebands(index: float) -> float:
    """How many sidebands to either side are above −80 dB: Jₙ(I) falls off steeply beyond n = I."""
    return index + 3.0 * max(index, 0.02) ** (1.0 / 3.0) + 2.0 if index > 1e-4 else 0.0


def _top_hz(freqs: FloatArray, index: FloatArray) -> float:
    """The highest frequency that matters: by Carson's rule from operator to operator. index (4, 4) in radians."""
    top = freqs.copy()
    for _ in range(OPERATORS):
        top = freqs + np.array(
            [sum(sidebands(float(index[j, k])) * top[j] for j in range(OPERATORS) if j != k) for k in range(OPERATORS)]
        )
    return float(np.max(top))


def _in_a_ring(index: FloatArray) -> bool:
    """Whether some operator comes back to itself by way of others; index (4, 4)."""
    reached = index > 0.0
    for _ in range(OPERATORS):
        reached = reached | (reached @ reached)
    return bool(np.diagonal(reached).any())


_TRIAL_FACTOR, _TRIAL_FRAMES = 16, 2048


@functools.lru_cache(maxsize=256)
def _tried(freqs: tuple[float, ...], index: tuple[float, ...], rate_hz: int) -> tuple[float, int]:
    """How much of the indices can be had, 0 to 1, and the oversampling for it: by the spectrum of a moment of it at a far
    higher rate."""
    cells = _TRIAL_FRAMES // GRID_FRAMES
    steps = np.repeat(np.array(freqs)[:, None] / rate_hz, cells + 1, axis=1)
    still = np.ones((OPERATORS, cells + 1))
    matrix = np.array(index).reshape(OPERATORS, OPERATORS)
    window = np.kaiser(_TRIAL_FRAMES * _TRIAL_FACTOR, 14.0)
    hz = np.fft.rfftfreq(len(window), 1.0 / (_TRIAL_FACTOR * rate_hz))

    def folds(scale: float, factor: int) -> bool:
        y = np.empty(len(window))
        bend_phases(steps, still, scale * matrix, still, still, _TRIAL_FACTOR, y)
        level = np.abs(np.fft.rfft(y * window))
        beyond = level[hz > (0.49 if factor == 1 else factor - 0.55) * rate_hz]
        return bool(np.max(beyond) > 1e-4 * np.max(level))

    for factor in (1, 2, 4):
        if not folds(1.0, factor):
            return 1.0, factor
    low, high = 0.0, 1.0
    for _ in range(8):
        middle = 0.5 * (low + high)
        low, high = (low, middle) if folds(middle, 4) else (middle, high)
    return low, 4


def plan(freqs: FloatArray, index: FloatArray, rate_hz: int) -> tuple[FloatArray, int]:
    """The indices that can be had without folding, and the oversampling that they need.

    What lies above half the raised rate folds back; what folds to above half the base rate is filtered away. Where operators
    bend each other in a ring no rule tells how far that goes, so it is tried.
    """
    if _in_a_ring(index):
        scale, factor = _tried(tuple(freqs), tuple(index.ravel()), rate_hz)
        return scale * index, factor
    allowed = index.copy()
    for _ in range(60):
        top = _top_hz(freqs, allowed)
        for factor in (1, 2, 4):
            if top < (0.49 if factor == 1 else factor - 0.55) * rate_hz:
                return allowed, factor
        off = ~np.eye(OPERATORS, dtype=bool)
        allowed[off] *= 0.85
    return allowed, 4


@source(KIND)
def render(params: Values, note: NoteRequest) -> Stereo:
    operators = params["operators"]
    shares, heard = connections(params)
    cells = note.cells
    steps, levels = np.zeros((OPERATORS, cells + 1)), np.zeros((OPERATORS, cells + 1))
    index, reaches = np.zeros(OPERATORS), np.zeros((OPERATORS, cells + 1))
    outputs = np.zeros((OPERATORS, cells + 1))
    at = np.arange(cells + 1, dtype=np.float64) * GRID_FRAMES
    octaves_up = max(0.0, math.log2(note.first_hz / C4_HZ))
    for k, op in enumerate(operators):
        path = f"operators.{k}."
        cents = 2.0 ** (note.grid(path + "detune_cents", op["detune_cents"]) / 1200.0)
        fixed_hz = note.grid(path + "fixed_hz", op["fixed_hz"])
        ratio = note.grid(path + "ratio", op["ratio"])
        steps[k] = cents * np.where(fixed_hz > 0.0, fixed_hz / note.rate_hz, note.steps * ratio)
        line = envelope_line(
            at, note.gate, note.rate_hz, attack_ms=op["attack_ms"], decay_ms=op["decay_ms"], sustain=op["sustain"],
            release_ms=op["release_ms"],
        )  # fmt: skip
        soft = 1.0 - op["velocity"] * (1.0 - note.velocity)
        reach = note.grid(path + "index", op["index"]) * 2.0 ** (-op["key_scale"] * octaves_up)
        index[k] = float(np.max(reach))
        reaches[k] = reach / index[k] if index[k] > 0.0 else 0.0
        outputs[k] = heard[k] * note.grid(path + "level", op["level"])
        levels[k] = line * soft
    tops = np.max(steps, axis=1) * note.rate_hz
    matrix, factor = plan(tops, shares * index[:, None] * (1.0 - np.eye(OPERATORS)), note.rate_hz)
    for k in range(OPERATORS):
        wanted = float(shares[k, k] * index[k]) if params["algorithm"] == "matrix" else 0.0
        if k == OPERATORS - 1 and params["algorithm"] != "matrix":
            wanted = params["feedback"]
        if wanted > 0.0 and tops[k] > 0.0:
            factor = 4
            room = int((factor - 0.55) * note.rate_hz / tops[k])
            matrix[k, k] = _feedback_below(min(1.5, wanted), room) if room >= 2 else 0.0
    outputs[tops > 0.49 * note.rate_hz] = 0.0
    raised = np.zeros(note.frames * factor)
    bend_phases(steps, levels, matrix, reaches, outputs, factor, raised)
    if factor > 1:
        raised = lowered(raised, factor)
    scale = 1.0 / max(1.0, float(np.sum(np.max(outputs, axis=1))) ** 0.5)
    y = scale * raised[: note.frames]
    return np.asarray(y[None])
