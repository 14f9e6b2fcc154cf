"""Shared fixtures. Windows are drawn in memory; settings and data never touch the person's own."""

from __future__ import annotations

import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import shutil
import tempfile
from contextlib import nullcontext

import pytest
from hypothesis import settings

from tests.demo import FOLDER
from zygotone.dsp.tiny import tiny_as_zero

# The first call of a kernel loads or compiles it, which says nothing about the code under test.
settings.register_profile("kernels", deadline=None, max_examples=40)
settings.load_profile("kernels")


@pytest.fixture(autouse=True)
def _own_folders(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))


@pytest.fixture(autouse=True)
def _as_sound_is_worked_out(request):
    """Devices and sources work as they do in the application."""
    with tiny_as_zero() if request.path.parent.name in ("devices", "sources") else nullcontext():
        yield


def pytest_configure(config):
    if FOLDER not in os.environ:  # the first process of a run makes it, and takes it away
        os.environ[FOLDER] = config.stash[_MADE] = tempfile.mkdtemp(prefix="zygotone-tests-")


def pytest_unconfigure(config):
    if _MADE in config.stash:
        shutil.rmtree(config.stash[_MADE], ignore_errors=True)
        del os.environ[FOLDER]


_MADE = pytest.StashKey[str]()
