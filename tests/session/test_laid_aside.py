"""What memory has no room for lies in files without a name, and comes back as it was."""

import gc
import subprocess
import sys
import threading
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from zygotone.engine.renderer import KeptTake
from zygotone.session.held import Held
from zygotone.session.laid_aside import LaidAside

ARRAYS = hnp.arrays(
    st.sampled_from([np.float32, np.float64, np.int64, np.complex128, np.bool_]),
    hnp.array_shapes(max_dims=3, min_side=0),
)


@dataclass(frozen=True, slots=True)
class Fact:
    """Of a module that both sides know."""

    arrays: tuple[np.ndarray, ...]
    number: float


def same(a, b) -> bool:
    return a.dtype == b.dtype and a.shape == b.shape and a.tobytes() == b.tobytes()


@given(st.lists(ARRAYS, max_size=4), st.floats(allow_nan=False))
@settings(max_examples=60, deadline=None)
def test_what_is_laid_aside_comes_back_to_the_last_bit(tmp_path_factory, arrays, number):
    aside = LaidAside(tmp_path_factory.mktemp("aside"))
    turned = [a.T for a in arrays]
    assert aside.put("a", Fact(tuple(arrays), number))
    assert aside.put("b", turned)
    back = aside.get("a")
    assert back.number == number
    assert all(map(same, back.arrays, arrays))
    assert all(map(same, aside.get("b"), turned))
    aside.let_pages_go()
    assert all(map(same, back.arrays, arrays))
    assert aside.get("c") is None


def test_it_is_not_to_be_written_to_and_has_no_name(tmp_path):
    aside = LaidAside(tmp_path / "not there yet")
    aside.put("take", KeptTake(np.ones((2, 1000), dtype=np.float32)))
    back = aside.get("take")
    assert back.gain_db is None
    with pytest.raises(ValueError, match="read-only"):
        back.audio[0, 0] = 2.0
    assert list((tmp_path / "not there yet").iterdir()) == []


def test_no_file_is_left_open_whoever_lets_go_of_it(tmp_path):
    before = len(list(Path("/proc/self/fd").iterdir()))
    for _ in range(50):
        aside = LaidAside(tmp_path)
        aside.put("a", np.ones(10))
        aside.itself = aside  # Python finds it later, and lets go of its parts in any order
    del aside
    gc.collect()
    assert len(list(Path("/proc/self/fd").iterdir())) <= before


def test_the_oldest_goes_and_whoever_reads_it_still_can(tmp_path):
    aside = LaidAside(tmp_path, limit_bytes=1 << 20, segment_bytes=256 << 10)
    first = None
    for n in range(40):
        assert aside.put(n, np.full(12_500, float(n)))  # 100 kB, so two to a file
        first = first if first is not None else aside.get(0)
        assert aside.bytes_used <= 1 << 20
    there = [n for n in range(40) if aside.get(n) is not None]
    assert there == list(range(32, 40))
    assert all((aside.get(n) == float(n)).all() for n in there)
    assert (first == 0.0).all()
    assert not aside.put("too large", np.zeros(1 << 18))
    assert aside.get("too large") is None


def test_no_more_than_a_part_of_the_disk_is_taken(tmp_path, monkeypatch):
    free = 4 << 20
    monkeypatch.setattr("shutil.disk_usage", lambda _: type("Usage", (), {"free": free})())
    aside = LaidAside(tmp_path, segment_bytes=256 << 10)
    for n in range(40):
        aside.put(n, np.zeros(25_000))
    assert 0 < aside.bytes_used <= 1 << 20
    free = 0
    aside = LaidAside(tmp_path, segment_bytes=256 << 10)
    assert not aside.put("a", np.zeros(25_000))


def test_where_nothing_can_be_written_nothing_is_there(tmp_path):
    (tmp_path / "a file").write_text("")
    held = Held(100_000, LaidAside(tmp_path / "a file" / "below"))
    for n in range(3):
        held.put(n, np.full(10_000, n))
    assert [held.get(n) is None for n in range(3)] == [True, True, False]


def test_what_is_let_go_is_read_from_there_and_what_is_cheap_is_not(tmp_path):
    held = Held(1_000_000, LaidAside(tmp_path))
    for n in range(20):
        for grade in ("dear", "cheap"):
            held.put((n, grade), np.full(25_000, n, dtype=np.int64), grade=grade)
        held.remember(("fact", n), lambda n=n: np.full(25_000, n, dtype=np.int64))
        assert held.held_bytes <= 1_000_000
    for n in range(20):
        assert (held.get((n, "dear")) == n).all()
        assert (held.remember(("fact", n), lambda: pytest.fail("worked out again")) == n).all()
    assert held.get((0, "cheap")) is None
    held.put((0, "dear"), np.zeros(25_000))  # it is there: the room is for others
    assert (held.get((0, "dear")) == 0).all()
    assert held.held_bytes <= 1_000_000


def test_what_fits_nowhere_else_is_laid_aside_at_once(tmp_path):
    held = Held(100_000, LaidAside(tmp_path))
    held.put("large", np.arange(100_000))
    assert held.held_bytes <= 100_000
    assert (held.get("large") == np.arange(100_000)).all()


def test_it_is_found_while_it_is_being_written(tmp_path):
    began, go_on = threading.Event(), threading.Event()

    class Slow(LaidAside):
        def put(self, key, value):
            began.set()
            assert go_on.wait(20.0)
            return super().put(key, value)

    held = Held(1_000_000, Slow(tmp_path))  # twelve of these
    for n in range(12):
        held.put(n, [np.full(10_000, n)])
    writer = threading.Thread(target=held.put, args=(12, [np.full(10_000, 12)]))
    writer.start()
    assert began.wait(20.0)
    assert (held.get(0)[0] == 0).all()  # nobody waits for the disk
    held.put(13, [np.full(10_000, 13)])  # who lets another go does not either
    assert writer.is_alive()
    go_on.set()
    writer.join()
    assert all((held.get(n)[0] == n).all() for n in range(14))
    assert held.held_bytes <= 1_000_000
    assert held._leaving_bytes == len(held._leaving) == 0


def test_threads_share_it(tmp_path):
    held = Held(500_000, LaidAside(tmp_path, limit_bytes=20 << 20, segment_bytes=1 << 20))
    wrong = []

    def work(seed: int) -> None:
        for n in np.random.default_rng(seed).integers(0, 60, 300):
            found = held.remember(int(n), lambda n=n: np.full(10_000, n))
            if not (found == n).all():
                wrong.append(n)

    threads = [threading.Thread(target=work, args=(seed,)) for seed in range(4)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert not wrong
    assert held.held_bytes <= 500_000


def test_pages_that_were_read_are_given_back(tmp_path):
    """40 takes of 8 MB each, read one after the other: memory of the process stays at what is at hand."""
    script = (
        "import sys, numpy as np\n"
        "from pathlib import Path\n"
        "from zygotone.session.laid_aside import LaidAside\n"
        "def memory():\n"
        "    return int(next(l for l in open('/proc/self/status') if l.startswith('VmRSS')).split()[1]) // 1024\n"
        "aside = LaidAside(Path(sys.argv[1]))\n"
        "for n in range(40): aside.put(n, np.full(1_000_000, float(n)))\n"
        "aside.let_pages_go(); before, most = memory(), 0\n"
        "for n in range(40):\n"
        "    assert aside.get(n).sum() == n * 1e6\n"
        "    most = max(most, memory() - before)\n"
        "print(most)"
    )
    found = subprocess.run([sys.executable, "-c", script, str(tmp_path)], capture_output=True, text=True, check=True)
    assert int(found.stdout) < 110
    assert list(Path(tmp_path).iterdir()) == []
