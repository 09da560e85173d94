"""Many small files cost few tasks and few looks into the records; nothing of them is lost."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from narrow_beacon.reduce import dealing
from narrow_beacon.reduce.dealing import in_tasks, some_at_a_time


def files(folder: Path, count: int, size: int) -> list[Path]:
    made = [folder / f"{size}-{number:03d}" for number in range(count)]
    for path in made:
        path.touch()
        os.truncate(path, size)
    return made


def test_small_files_share_tasks_large_ones_have_their_own(tmp_path: Path) -> None:
    small, large = files(tmp_path, 600, 500_000), files(tmp_path, 5, 120_000_000)
    for whole, most in ((small, 16), (large, 1), (small[:40], 2), ([*small[:3], *large], 3)):
        tasks = in_tasks(whole, lambda path: path)
        assert [path for task in tasks for path in task] == whole
        assert max(len(task) for task in tasks) <= most
    assert len(in_tasks(small, lambda path: path)) == 38
    assert in_tasks([tmp_path / "gone"], lambda path: path) == [[tmp_path / "gone"]]


def test_results_are_kept_some_at_a_time_and_those_before_an_error_too(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(dealing, "_WAIT_S", 1e9)
    kept: list[list[int]] = []

    def cut_short() -> None:
        with some_at_a_time(kept.append) as take:
            for number in range(150):
                take([number])
            raise RuntimeError

    with pytest.raises(RuntimeError):
        cut_short()
    assert [number for some in kept for number in some] == list(range(150))
    assert [len(some) for some in kept] == [64, 64, 22]
    monkeypatch.setattr(dealing, "_WAIT_S", 0.0)
    busy = iter([True, False])

    def keep_once_free(some: list[int]) -> None:
        if next(busy):
            raise OSError
        kept.append(some)

    kept.clear()
    with pytest.raises(OSError), some_at_a_time(keep_once_free) as take:
        take([7, 8])
    assert kept == [[7, 8]]
    kept.clear()
    with some_at_a_time(kept.append) as take:
        take([1, 2])
        assert kept == [[1, 2]]  # a slow night is seen as it is measured
