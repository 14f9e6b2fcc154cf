"""Digital second-order sections that follow an analog prototype up to the top of hearing.

The bilinear transform squeezes everything near half the sample rate. Here poles are mapped by z = exp(s/fs)
(impulse invariance), and the zeros are fitted to the analog magnitude: with phi = sin²(w/2), the squared
magnitude of a numerator is a polynomial in phi, so that the fit is a linear least-squares problem and the
numerator follows by spectral factorisation. The idea of fitting in phi is M. Vicanek's ("Matched
second order digital filters", 2016); here more points and two more zeros are fitted instead of three
points matched.

Conventions
-----------
An analog section is ``(b, a)``, each three numbers for s², s, 1 with s normalised to the section's own
angular frequency. A digital section is six numbers, b0 b1 b2 1 a1 a2, as in ``scipy.signal``.
"""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.types import FloatArray

# The fit looks up to this fraction of the sample rate: 20 kHz at 48 kHz.
FIT_UP_TO = 0.4167
_FIT_POINTS = 160
_GOOD_ENOUGH = 0.02 * math.log(10.0) / 20.0  # 0.02 dB
_TOP_ANGLE = 0.92 * math.pi


@dataclass(frozen=True, slots=True)
class AnalogSection:
    """(b2 s² + b1 s + b0) / (a2 s² + a1 s + a0), s in units of ``freq_hz``."""

    freq_hz: float
    b: tuple[float, float, float]
    a: tuple[float, float, float]

    def response(self, freqs_hz: FloatArray) -> FloatArray:
        """Complex response, shape of ``freqs_hz``."""
        s = 1j * np.asarray(freqs_hz, dtype=np.float64) / self.freq_hz
        top = (self.b[0] * s + self.b[1]) * s + self.b[2]
        return np.asarray(top / ((self.a[0] * s + self.a[1]) * s + self.a[2]))


def _phi(freqs_hz: FloatArray, sample_rate_hz: float) -> FloatArray:
    return np.asarray(np.sin(np.pi * freqs_hz / sample_rate_hz) ** 2)


def _poles(section: AnalogSection, sample_rate_hz: float) -> tuple[float, float]:
    """a1, a2 by z = exp(s / fs)."""
    w = 2.0 * math.pi * section.freq_hz / sample_rate_hz
    a2, a1, a0 = section.a
    roots = np.roots([a2, a1, a0]) if a2 else np.array([-a0 / a1, -np.inf])
    if np.isinf(roots).any():
        return -math.exp(roots[0].real * w), 0.0
    # A pole above half the sample rate would fold down; it is held just below instead, and the zeros make up.
    z = np.exp(np.clip(roots.real * w, -12.0, 0.0) + 1j * np.clip(roots.imag * w, -_TOP_ANGLE, _TOP_ANGLE))
    return float(-(z[0] + z[1]).real), float((z[0] * z[1]).real)


def _denominator_power(a1: float, a2: float, phi: FloatArray) -> FloatArray:
    """|1 + a1/z + a2/z²|² as a polynomial in phi (Vicanek 2016, eq. 8 to 10)."""
    c0, c1, c2 = (1.0 + a1 + a2) ** 2, (1.0 - a1 + a2) ** 2, -4.0 * a2
    return np.asarray(c0 * (1.0 - phi) + c1 * phi + 4.0 * c2 * phi * (1.0 - phi))


def _factor(poly: FloatArray) -> FloatArray:
    """Minimum-phase polynomial in 1/z whose squared magnitude is ``poly`` (highest power of phi first)."""
    result = np.array([1.0 + 0j])
    for root in np.roots(poly):
        # phi = (2 − z − 1/z) / 4, hence z + 1/z = 2 − 4 phi; the two solutions are reciprocal.
        c = 2.0 - 4.0 * root
        z = np.roots([1.0, -c, 1.0])
        inside = z[np.argmin(np.abs(z))]
        result = np.convolve(result, [1.0, -inside])
    return np.asarray(result.real)


def _fit_grid(section: AnalogSection, sample_rate_hz: float) -> FloatArray:
    top = FIT_UP_TO * sample_rate_hz
    low = min(section.freq_hz / 8.0, 8.0)
    near = section.freq_hz * np.geomspace(0.5, 2.0, _FIT_POINTS // 2)
    grid = np.concatenate([np.geomspace(low, top, _FIT_POINTS), np.linspace(top / 2, top, 40), near[near < top]])
    return np.sort(grid)


@functools.lru_cache(maxsize=4096)
def matched_sections(section: AnalogSection, sample_rate_hz: float) -> tuple[tuple[float, ...], ...]:
    """One or two digital sections for one analog section, each six numbers.

    Within 0.1 dB of the prototype up to 16 kHz at 48 kHz for every shape the EQ offers (tested).
    """
    a1, a2 = _poles(section, sample_rate_hz)
    grid = _fit_grid(section, sample_rate_hz)
    phi = _phi(grid, sample_rate_hz)
    power = np.abs(section.response(grid)) ** 2
    target = power * _denominator_power(a1, a2, phi)

    # Zeros on the imaginary axis are kept exactly and only the rest is fitted.
    b2, b1, b0 = section.b
    w = 2.0 * math.pi * min(section.freq_hz / sample_rate_hz, 0.5)
    fixed, fixed_zeros = np.array([1.0]), np.array([1.0])  # in powers of phi, and of 1/z
    if b1 == 0.0 and b0 == 0.0:  # s²: two zeros at 0 Hz
        fixed, fixed_zeros = np.array([1.0, 0.0, 0.0]), np.array([1.0, -2.0, 1.0])
    elif b2 == 0.0 and b0 == 0.0:  # s: one zero at 0 Hz
        fixed, fixed_zeros = np.array([1.0, 0.0]), np.array([1.0, -1.0])
    elif b1 == 0.0 and b2 != 0.0:  # s² + 1: a notch
        w2 = math.sin(w / 2.0) ** 2
        fixed, fixed_zeros = np.array([1.0, -2.0 * w2, w2 * w2]), np.array([1.0, -2.0 * math.cos(w), 1.0])
    # Relative error counts, since the ear hears dB. At a notch itself the target is zero: leave it out.
    keep = power > 1e-20 * np.max(power) if b1 or not b2 else power > 1e-6
    phi, target, grid = phi[keep], target[keep], grid[keep]
    rest = target / np.polyval(fixed, phi)
    delay = np.exp(-2j * np.pi * grid / sample_rate_hz)
    for n_zeros in (2, 4, 6):  # as few as will do: each pair costs a section in every sample
        columns = np.vander(phi, n_zeros + 2 - len(fixed)) / rest[:, None]
        scale = np.max(np.abs(columns), axis=0)
        solved, *_ = np.linalg.lstsq(columns / scale, np.ones(len(rest)), rcond=None)
        zeros = np.convolve(_factor(solved / scale), fixed_zeros)
        digital = np.abs(np.polynomial.polynomial.polyval(delay, zeros))
        error = np.log(np.sqrt(target) / digital)
        gain = math.exp(float(np.median(error)))
        if np.max(np.abs(error - np.median(error))) < _GOOD_ENOUGH:
            break
    roots = _paired_roots(zeros)
    first = gain * roots[0]
    sections = [(first[0], first[1], first[2], 1.0, a1, a2)]
    sections += [(float(r[0]), float(r[1]), float(r[2]), 1.0, 0.0, 0.0) for r in roots[1:]]
    return tuple(tuple(float(v) for v in s) for s in sections)


def _paired_roots(zeros: FloatArray) -> list[FloatArray]:
    """Quadratic factors of a real polynomial in 1/z of degree up to four, conjugates together."""
    roots = sorted(np.roots(zeros), key=lambda r: (abs(r.imag) < 1e-12, -abs(r)))
    complex_up = [r for r in roots if r.imag > 1e-12]
    real = [r.real for r in roots if abs(r.imag) <= 1e-12]
    quads = [np.array([1.0, -2.0 * r.real, abs(r) ** 2]) for r in complex_up]
    real.sort(key=lambda r: -abs(r))
    while real:
        pair = real[:2]
        del real[:2]
        quads.append(np.array([1.0, -sum(pair), pair[0] * pair[1] if len(pair) == 2 else 0.0]))
    return quads or [np.array([1.0, 0.0, 0.0])]
