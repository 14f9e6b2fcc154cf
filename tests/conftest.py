"""Shared fixtures. Windows are drawn in memory; settings and data never touch the person's own."""

from __future__ import annotations

import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import pytest
from hypothesis import settings

# The first call of a kernel loads or compiles it, which says nothing about the code under test.
settings.register_profile("kernels", deadline=None, max_examples=40)
settings.load_profile("kernels")


@pytest.fixture(autouse=True)
def _own_folders(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
