"""A short run of ``./run fuzz``: whatever is in a file, it is read or refused in one line."""

import pytest

from tests.fuzz import fuzz

# 7 found foreign bytes in a library; the others found damaged deflate streams and parts whose kind is no text.
SEEDS = (7, 12, 2026)


@pytest.mark.parametrize("seed", SEEDS)
def test_damaged_files_are_read_or_refused_in_one_line(seed):
    results, wrong = fuzz(105, seed)
    assert wrong == []
    assert sum(results.values()) == 105
    assert sum(count for name, count in results.items() if name.endswith("refused")) > 30
