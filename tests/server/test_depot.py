"""What machines without a common file system hand on, through a store that fsspec opens."""

from __future__ import annotations

import pickle
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import fsspec
import pytest

from narrow_beacon.jobs import depot as depots
from narrow_beacon.jobs.depot import VARIABLE, WHOLE, Depot, DepotError, Place, given_depot

PLACE = Place("memory://store", "observatory")


@dataclass(frozen=True)
class _Work:
    """What a task is told, with a path in it that it could not know of."""

    planes: str
    frames: tuple[Path, ...]


def _task(work: _Work, out: Path, notes: Path) -> tuple[str, Path, str]:
    """Reads a folder of planes and a frame; writes one file, and a folder that it makes whole."""
    words = (Path(work.planes) / "flat.txt").read_text() + work.frames[0].read_text()
    out.write_text(words)
    made = notes / "made"
    made.mkdir()
    (made / "part").write_text("part")
    (made / WHOLE).write_text("whole")
    return words, made, f"{out}: written, or / not"


@pytest.fixture
def here(tmp_path: Path) -> Iterator[Depot]:
    (tmp_path / "here").mkdir()
    depot = Depot(PLACE, tmp_path / "here")
    yield depot
    depot.clear()
    assert not fsspec.filesystem("memory").find("/store")


@pytest.fixture
def there(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Depot:
    """The depot of a worker."""
    (tmp_path / "there").mkdir()
    depot = Depot(PLACE, tmp_path / "there")
    monkeypatch.setitem(depots._depots, PLACE, depot)
    return depot


def _run(depot: Depot, *told: Any) -> Any:
    """As the cluster does it, with what is sent as bytes."""
    task, *arguments = pickle.loads(pickle.dumps(depot.sent(told[0], told[1:])))
    return depot.received(task(*arguments))


def _lay(root: Path) -> tuple[_Work, Path]:
    planes, frame = root / "chains" / "abc", root / "uploads" / "frame.txt"
    for path, words in ((planes / "flat.txt", "flat "), (frame, "frame"), (planes / WHOLE, "")):
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(words)
    (root / "notes").mkdir()
    return _Work(str(planes), (frame,)), root / "out" / "words.txt"


def test_a_task_finds_what_it_is_told_of_and_what_it_makes_comes_back(
    here: Depot, there: Depot
) -> None:
    work, out = _lay(here.root)
    words, made, said = _run(here, _task, work, out, here.root / "notes")
    assert words == out.read_text() == "flat frame"
    assert made == here.root / "notes" / "made"
    assert sorted(path.name for path in made.iterdir()) == [WHOLE, "part"]
    assert said == f"{out}: written, or / not"
    assert sorted(path.name for path in out.parent.iterdir()) == ["words.txt"]
    # The worker had all of it in a folder of its own.
    assert (there.root / "chains" / "abc" / "flat.txt").read_text() == "flat "
    assert (there.root / "out" / "words.txt").read_text() == words


def _append(path: Path) -> int:
    path.write_text(path.read_text() + "+")
    return 1


def test_a_file_that_a_task_changes_is_the_changed_one_here(here: Depot, there: Depot) -> None:
    path = here.root / "figure.svg"
    path.write_text("old")
    assert _run(here, _append, path) == 1
    assert path.read_text() == "old+"


def test_what_is_gone_here_goes_from_the_store(here: Depot, there: Depot) -> None:
    work, out = _lay(here.root)
    _run(here, _task, work, out, here.root / "notes")
    work.frames[0].unlink()
    here.sweep()
    assert not [name for name in fsspec.filesystem("memory").find("/store") if "uploads" in name]
    # What came from a worker and stays here stays there.
    assert [name for name in fsspec.filesystem("memory").find("/store") if "notes/made" in name]


def _nothing(frames: tuple[Path, ...]) -> int:
    return sum(path.exists() for path in frames)


def test_a_worker_keeps_the_newest_of_what_it_fetched(
    here: Depot, there: Depot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(depots, "_MOST_KEPT", 2)
    frames = tuple(here.root / f"{n}.txt" for n in range(5))
    for frame in frames:
        frame.write_text("frame")
    assert _run(here, _nothing, frames) == 5  # all that a task needs, however many
    assert _run(here, _nothing, ()) == 0
    assert sorted(path.name for path in there.root.iterdir()) == ["3.txt", "4.txt"]
    assert _run(here, _nothing, frames[:1]) == 1


def test_a_store_that_cannot_be_opened_is_said_with_what_to_do(tmp_path: Path) -> None:
    cluster = {"BEACON_DASK": "tls://scheduler:8786"}
    assert given_depot(tmp_path, {VARIABLE: "memory://store"}) is None  # nobody to share with
    assert given_depot(tmp_path, cluster) is None
    with pytest.raises(DepotError, match=r"nothing://store cannot be opened.*every machine"):
        given_depot(tmp_path, {**cluster, VARIABLE: "nothing://store"})
    blocked = tmp_path / "file"
    blocked.write_text("no folder")
    depot = given_depot(tmp_path, {**cluster, VARIABLE: f"file://{blocked}"})
    assert depot is not None
    with pytest.raises(DepotError, match="may be written; what was done is kept"):
        depot.give("file")
