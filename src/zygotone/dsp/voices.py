"""Bands that one voice opens and another sings through."""

from __future__ import annotations

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, Stereo


@kernel
def vocode(
    talk: FloatArray, song: Stereo, hiss: FloatArray, hear: FloatArray, sing: FloatArray, hissing: FloatArray,
    attack: float, release: float, gain: float, heard: FloatArray, sung: FloatArray, levels: FloatArray, y: Stereo,
) -> None:  # fmt: skip
    """talk (n,) opens bands of song (2, n) into y (2, n), which is added to; hiss (n,) joins the bands with ``hissing`` 1.

    hear and sing (bands, 2, 6) are two sections a band, for the voice and the carrier; heard (bands, 2, 2),
    sung (2, bands, 2, 2) their memory; levels (bands,) the envelopes.
    """
    n = talk.shape[0]
    for k in range(hear.shape[0]):
        b0, b1, b2, a1, a2 = hear[k, 0, 0], hear[k, 0, 1], hear[k, 0, 2], hear[k, 0, 4], hear[k, 0, 5]
        d0, d1, d2, c1, c2 = sing[k, 0, 0], sing[k, 0, 1], sing[k, 0, 2], sing[k, 0, 4], sing[k, 0, 5]
        h00, h01, h10, h11 = heard[k, 0, 0], heard[k, 0, 1], heard[k, 1, 0], heard[k, 1, 1]
        l00, l01, l10, l11 = sung[0, k, 0, 0], sung[0, k, 0, 1], sung[0, k, 1, 0], sung[0, k, 1, 1]
        r00, r01, r10, r11 = sung[1, k, 0, 0], sung[1, k, 0, 1], sung[1, k, 1, 0], sung[1, k, 1, 1]
        level = levels[k]
        for i in range(n):
            v = talk[i]
            u = b0 * v + h00
            h00 = b1 * v - a1 * u + h01
            h01 = b2 * v - a2 * u
            w = b0 * u + h10
            h10 = b1 * u - a1 * w + h11
            h11 = b2 * u - a2 * w
            size = abs(w)
            level = size + (attack if size > level else release) * (level - size)
            extra = hissing[k] * hiss[i]
            p = song[0, i] + extra
            q = d0 * p + l00
            l00 = d1 * p - c1 * q + l01
            l01 = d2 * p - c2 * q
            p = d0 * q + l10
            l10 = d1 * q - c1 * p + l11
            l11 = d2 * q - c2 * p
            y[0, i] += gain * level * p
            p = song[1, i] + extra
            q = d0 * p + r00
            r00 = d1 * p - c1 * q + r01
            r01 = d2 * p - c2 * q
            p = d0 * q + r10
            r10 = d1 * q - c1 * p + r11
            r11 = d2 * q - c2 * p
            y[1, i] += gain * level * p
        heard[k, 0, 0], heard[k, 0, 1], heard[k, 1, 0], heard[k, 1, 1] = h00, h01, h10, h11
        sung[0, k, 0, 0], sung[0, k, 0, 1], sung[0, k, 1, 0], sung[0, k, 1, 1] = l00, l01, l10, l11
        sung[1, k, 0, 0], sung[1, k, 0, 1], sung[1, k, 1, 0], sung[1, k, 1, 1] = r00, r01, r10, r11
        levels[k] = level if level > 1e-20 else 0.0
        for s in range(2):  # no denormals in a silent tail
            for m in range(2):
                if abs(heard[k, s, m]) < 1e-25:
                    heard[k, s, m] = 0.0
                for c in range(2):
                    if abs(sung[c, k, s, m]) < 1e-25:
                        sung[c, k, s, m] = 0.0
