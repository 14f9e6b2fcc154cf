"""Zygotone: a bench where kick, bass, guitars and leads are made to sit together."""

__version__ = "0.1.0"

import os

# Matrices here are small: the pools of threads that linear algebra would keep only wake to wait. Before NumPy is imported.
for _pool in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"):
    os.environ.setdefault(_pool, "1")
# What other packages would add to the models is nothing that a project may hold; to look for it takes time at each start.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
