"""How kernels are compiled: ahead of use where possible, kept on disk, free of Python's lock."""

from __future__ import annotations

from numba import njit

# error_model="numpy": dividing by zero gives infinity, as in NumPy, rather than a hidden branch per division.
kernel = njit(cache=True, nogil=True, error_model="numpy")
