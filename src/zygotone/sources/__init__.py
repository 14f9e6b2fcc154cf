"""What makes sound: sources, one module each, the voices that play them, and audio clips."""

from zygotone.sources import drum, fm, formant, noise, oscillator, sample, string, wavetable
from zygotone.sources.clip import ClipReader
from zygotone.sources.instrument import add_layers, render_layer

__all__ = [
    "ClipReader", "add_layers", "drum", "fm", "formant", "noise", "oscillator", "render_layer",
    "sample", "string", "wavetable",
]  # fmt: skip
