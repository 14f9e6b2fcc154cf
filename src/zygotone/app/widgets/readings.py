"""Numbers before and after, in words."""

from __future__ import annotations

from zygotone.errors import ParameterError
from zygotone.measure.quantities import find_quantity
from zygotone.session.history import Reading
from zygotone.session.params import format_number


def end_text(reading: Reading, value: float) -> str:
    """One end of a reading without its unit: as its quantity is shown, or, of one that is none any more, in three digits."""
    try:
        digits = find_quantity(reading.name).digits
    except ParameterError:
        return format_number(value, "dB" if reading.unit.startswith(("dB", "LU")) else "").removesuffix(" dB")
    text = f"{value:.{digits}f}"
    return (f"{0.0:.{digits}f}" if float(text) == 0.0 else text).replace("-", "−")


def reading_text(reading: Reading) -> str:
    """``Kick clear of bass −1.4 → 2.8 dB``."""
    if reading.before is None and reading.after is None:
        return ""
    ends = [end_text(reading, v) for v in (reading.before, reading.after) if v is not None]
    return f"{reading.label} {' → '.join(ends)} {reading.unit}".strip()
