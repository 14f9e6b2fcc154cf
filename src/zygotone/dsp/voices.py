"""A voice that opens the bands of another sound."""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, Stereo

TILE = 256
# A carrier's band is turned up no further than if it had this share of the whole.
_LEAST_SHARE = 0.05
_MOST_MADE_UP = 0.3
_NOTHING = 1e-9


@kernel
def _twice(
    v: float, b0: float, b1: float, b2: float, a1: float, a2: float, s0: float, s1: float, t0: float, t1: float
) -> tuple[float, float, float, float, float]:
    """A value through a section and once more through the same, and what both remember after it."""
    u = b0 * v + s0
    w = b0 * u + t0
    return w, b1 * v - a1 * u + s1, b2 * v - a2 * u, b1 * u - a1 * w + t1, b2 * u - a2 * w


@kernel
def _band(
    talk: FloatArray, song: Stereo, noise: FloatArray, hear: FloatArray, sing: FloatArray, attack: float, release: float, quick: float,
    heard: FloatArray, sung: FloatArray, hissed: FloatArray, levels: FloatArray, voice: FloatArray, carrier: FloatArray,
    left: FloatArray, right: FloatArray, hiss: FloatArray,
) -> None:  # fmt: skip
    """One band of everything: envelopes of voice and carrier, the carrier's sides and the noise, (n,) each.

    hear and sing (6,) are a section that is passed twice; heard and hissed (2, 2), sung (2, 2, 2), levels (2,). All of it in one
    loop, as the four do not wait for each other.
    """
    b0, b1, b2, a1, a2 = hear[0], hear[1], hear[2], hear[4], hear[5]
    d0, d1, d2, c1, c2 = sing[0], sing[1], sing[2], sing[4], sing[5]
    h00, h01, h10, h11 = heard[0, 0], heard[0, 1], heard[1, 0], heard[1, 1]
    l00, l01, l10, l11 = sung[0, 0, 0], sung[0, 0, 1], sung[0, 1, 0], sung[0, 1, 1]
    r00, r01, r10, r11 = sung[1, 0, 0], sung[1, 0, 1], sung[1, 1, 0], sung[1, 1, 1]
    n00, n01, n10, n11 = hissed[0, 0], hissed[0, 1], hissed[1, 0], hissed[1, 1]
    spoken, played = levels[0], levels[1]
    for i in range(talk.shape[0]):
        w, h00, h01, h10, h11 = _twice(talk[i], b0, b1, b2, a1, a2, h00, h01, h10, h11)
        size = abs(w)
        spoken = size + (attack if size > spoken else release) * (spoken - size)
        voice[i] = spoken
        left[i], l00, l01, l10, l11 = _twice(song[0, i], d0, d1, d2, c1, c2, l00, l01, l10, l11)
        right[i], r00, r01, r10, r11 = _twice(song[1, i], d0, d1, d2, c1, c2, r00, r01, r10, r11)
        size = 0.5 * (abs(left[i]) + abs(right[i]))
        played = size + (quick if size > played else release) * (played - size)
        carrier[i] = played
        hiss[i], n00, n01, n10, n11 = _twice(noise[i], d0, d1, d2, c1, c2, n00, n01, n10, n11)
    heard[0, 0], heard[0, 1], heard[1, 0], heard[1, 1] = h00, h01, h10, h11
    sung[0, 0, 0], sung[0, 0, 1], sung[0, 1, 0], sung[0, 1, 1] = l00, l01, l10, l11
    sung[1, 0, 0], sung[1, 0, 1], sung[1, 1, 0], sung[1, 1, 1] = r00, r01, r10, r11
    hissed[0, 0], hissed[0, 1], hissed[1, 0], hissed[1, 1] = n00, n01, n10, n11
    levels[0] = spoken if spoken > 1e-20 else 0.0
    levels[1] = played if played > 1e-20 else 0.0


@kernel
def how_far_open(level: FloatArray, full: float, dynamics: float, closing: float, steep: float, y: FloatArray) -> None:
    """y (n,): how loud the track sings, 1 where the voice's ``level`` (n,), linear, is ``full``.

    A dB of the voice is ``dynamics`` dB of the song, at most up to 6 dB; below ``closing`` it is ``steep`` dB.
    """
    at_closing = math.pow(closing / full, dynamics)
    for i in range(level.shape[0]):
        v = level[i]
        if v > closing:
            y[i] = min(2.0, math.pow(v / full, dynamics))
        else:
            y[i] = at_closing * math.pow(v / closing, steep)


@kernel
def vocode(
    talk: FloatArray, song: Stereo, noise: FloatArray, hear: FloatArray, sing: FloatArray, weights: FloatArray, low_bands: int,
    high_bands: int,
    attack: float, release: float, quick: float, full: float, dynamics: float, closing: float, noisy: FloatArray, own: float,
    consonants: FloatArray, heard: FloatArray, sung: FloatArray, hissed: FloatArray, levels: FloatArray, y: Stereo,
) -> None:  # fmt: skip
    """talk (n,) opens bands of song (2, n) into y (2, n).

    Each band of the song gets the share that it has of the voice, and all of them together the level of the song, by their
    ``weights`` (bands,) to the ear, times ``how_far_open``. Where the voice hisses (more of it in the bands from ``high_bands`` on than in the first ``low_bands``),
    noise (n,) joins the bands that have some ``noisy`` (bands,), its gain against the band's level, and the voice's own ``consonants`` (n,), ``own`` as loud, pass.

    hear and sing (bands, 6) are sections that are passed twice, for the voice and the carrier; heard (bands, 2, 2), sung (2,
    bands, 2, 2) and hissed (bands, 2, 2) their memory; levels (2, bands) the envelopes of voice and carrier; attack,
    release and ``quick`` (the carrier's attack) one-pole coefficients.
    """
    bands = hear.shape[0]
    voice, carrier = np.empty((bands, TILE)), np.empty((bands, TILE))
    left, right, hiss = np.empty((bands, TILE)), np.empty((bands, TILE)), np.zeros((bands, TILE))
    whole, song_whole, low, high = np.empty(TILE), np.empty(TILE), np.empty(TILE), np.empty(TILE)
    made, unvoiced, opened = np.empty(TILE), np.empty(TILE), np.empty(TILE)
    for at in range(0, talk.shape[0], TILE):
        n = min(TILE, talk.shape[0] - at)
        whole[:n], song_whole[:n], low[:n], high[:n], made[:n] = 0.0, 0.0, 0.0, 0.0, 0.0
        for k in range(bands):
            _band(
                talk[at : at + n], song[:, at : at + n], noise[at : at + n], hear[k], sing[k], attack, release, quick, heard[k],
                sung[:, k], hissed[k], levels[:, k], voice[k, :n], carrier[k, :n], left[k, :n], right[k, :n], hiss[k, :n],
            )  # fmt: skip
            for i in range(n):
                power = voice[k, i] * voice[k, i]
                whole[i] += power
                song_whole[i] += weights[k] * (carrier[k, i] * carrier[k, i])
                low[i] += power if k < low_bands else 0.0
                high[i] += power if k >= high_bands else 0.0
        for i in range(n):
            whole[i] = math.sqrt(whole[i]) + _NOTHING
            song_whole[i] = math.sqrt(song_whole[i])
            share = high[i] / (high[i] + low[i] + _NOTHING * _NOTHING)
            t = min(1.0, max(0.0, (share - 0.4) / 0.3))
            unvoiced[i] = t * t * (3.0 - 2.0 * t)
        how_far_open(whole[:n], full, dynamics, closing, 2.0, opened[:n])
        for k in range(bands):
            for i in range(n):
                # The carrier's bands made alike, as far as there is something in them; then as the voice has them.
                least = _LEAST_SHARE * song_whole[i] + _NOTHING
                least_level = math.sqrt(carrier[k, i] * carrier[k, i] + least * least)
                gain = voice[k, i] / least_level
                made[i] += weights[k] * (gain * carrier[k, i]) * (gain * carrier[k, i])
                voice[k, i], carrier[k, i] = gain, least_level
        for i in range(n):
            opened[i] *= song_whole[i]
            # A song that has nothing where the voice is stays soft there, rather than loud elsewhere.
            made[i] = opened[i] / max(math.sqrt(made[i]), _MOST_MADE_UP * whole[i])
            y[0, at + i], y[1, at + i] = 0.0, 0.0
        for k in range(bands):
            sign = 1.0 if k % 2 == 0 else -1.0  # neighbours meet half a turn apart
            for i in range(n):
                gain = sign * made[i] * voice[k, i]
                extra = unvoiced[i] * noisy[k] * carrier[k, i] * hiss[k, i]
                y[0, at + i] += gain * (left[k, i] + extra)
                y[1, at + i] += gain * (right[k, i] + extra)
        for i in range(n):
            # As loud against the song as it is against the voice.
            passed = own * unvoiced[i] * opened[i] / whole[i] * consonants[at + i]
            y[0, at + i] += passed
            y[1, at + i] += passed
