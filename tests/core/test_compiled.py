"""Kernels kept on disk follow all that they were made of, and only that."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from narrow_beacon.compiled import njit

CALLED = "from narrow_beacon.compiled import njit\nOFFSET = {offset}\n\n\n" + (
    "@njit(cache=True)\ndef times(x):\n    return {factor} * x\n"
)
CALLING = (
    "from narrow_beacon.compiled import njit\nfrom called import OFFSET, times\n\n\n"
    "@njit(cache=True)\ndef both(x):\n    return times(x) + OFFSET\n\n\n"
    "print(both(7), sum(both.stats.cache_hits.values()))\n"
)


@pytest.fixture
def answer(tmp_path: Path):  # type: ignore[no-untyped-def]
    """What the calling kernel gives, and whether it came from disk."""
    (tmp_path / "calling.py").write_text(CALLING)

    def run(**values: int) -> tuple[int, int]:
        (tmp_path / "called.py").write_text(CALLED.format(**values))
        done = subprocess.run(
            # Python's own compiled files tell a file's age in whole seconds.
            [sys.executable, "-B", "calling.py"], cwd=tmp_path, capture_output=True, text=True,
            check=True,
        )  # fmt: skip
        value, hits = (int(word) for word in done.stdout.split())
        return value, hits

    return run


def test_a_kernel_is_made_anew_when_one_that_it_calls_has_changed(answer) -> None:  # type: ignore[no-untyped-def]
    assert answer(factor=2, offset=1) == (15, 0)
    assert answer(factor=2, offset=1) == (15, 1)
    assert answer(factor=3, offset=1) == (22, 0)


def test_a_kernel_is_made_anew_when_a_constant_of_another_file_has_changed(answer) -> None:  # type: ignore[no-untyped-def]
    assert answer(factor=2, offset=1) == (15, 0)
    assert answer(factor=2, offset=5) == (19, 0)


def test_a_kernel_from_disk_is_linked_into_one_that_is_made_anew(  # type: ignore[no-untyped-def]
    answer, tmp_path: Path
) -> None:
    assert answer(factor=2, offset=1) == (15, 0)
    told = "print(both(7), sum(times.stats.cache_hits.values()))\n"
    (tmp_path / "calling.py").write_text(CALLING.rsplit("print", 1)[0].replace("+", "-") + told)
    assert answer(factor=2, offset=1) == (13, 1)


def test_a_kernel_from_disk_loads_nothing_that_only_compiling_needs(
    tmp_path: Path,
) -> None:
    (tmp_path / "calling.py").write_text(
        "import sys\nimport numpy as np\nfrom narrow_beacon.compiled import njit\n\n\n"
        "@njit(cache=True)\ndef middle(x):\n    return np.median(x) + x.sum()\n\n\n"
        "@njit()\ndef fresh(x):\n    return middle(x) + np.linalg.norm(x)\n\n\n"
        "x = np.array([3.0, 0.0, 4.0])\n"
        "told = middle(x), sum(middle.stats.cache_hits.values())\n"
        "loaded = any(name in sys.modules for name in ('numba.np.arraymath', 'scipy.linalg'))\n"
        "print(*told, loaded, fresh(x))\n"
    )
    said = [
        subprocess.run(
            [sys.executable, "calling.py"], cwd=tmp_path, capture_output=True, text=True, check=True
        ).stdout.split()
        for _ in range(2)
    ]
    # Compiled, from disk; what is compiled afterwards has all of it either way.
    assert said == [["10.0", "0", "True", "15.0"], ["10.0", "1", "False", "15.0"]]


def test_a_kernel_counts_alike_whoever_is_compiled_first() -> None:
    @njit()
    def rest(a, b):  # type: ignore[no-untyped-def]
        return (a + b) - b

    @njit(fastmath=True, error_model="numpy")
    def hasty(a, b):  # type: ignore[no-untyped-def]
        return rest(a, b) / b

    tenth, large = np.array([0.1]), 1e16
    hasty(tenth[0], large)
    # Were it free to take sums apart it would give back all of the tenth.
    assert rest(tenth[0], large) == 0.0
