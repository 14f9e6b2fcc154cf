"""What makes sound: sources, one module each, the voices that play them, and audio clips."""

from zygotone.sources import drum, oscillator
from zygotone.sources.clip import ClipReader
from zygotone.sources.instrument import render_instrument

__all__ = ["ClipReader", "drum", "oscillator", "render_instrument"]
