"""What is kept between requests is made once, however many ask for it."""

from __future__ import annotations

import threading
import time

import pytest

from narrow_beacon.server import ease
from narrow_beacon.server.kept import Kept


def test_many_who_ask_at_once_wait_for_one() -> None:
    kept: Kept[int] = Kept(4)
    made: list[int] = []
    found: list[int] = []
    gate = threading.Barrier(8)

    def make() -> int:
        made.append(1)
        time.sleep(0.05)  # so long that all others come meanwhile
        return 7

    def ask() -> None:
        gate.wait()
        found.append(kept.get("a", make))

    threads = [threading.Thread(target=ask) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert found == [7] * 8
    assert len(made) == 1


def test_another_value_is_not_waited_for() -> None:
    kept: Kept[str] = Kept(4)
    inside, free = threading.Event(), threading.Event()

    def slow() -> str:
        inside.set()
        assert free.wait(10)
        return "slow"

    thread = threading.Thread(target=kept.get, args=("slow", slow))
    thread.start()
    assert inside.wait(10)
    assert kept.get("quick", lambda: "quick") == "quick"
    free.set()
    thread.join()
    assert kept.get("slow", lambda: "again") == "slow"


def test_what_could_not_be_made_is_tried_again() -> None:
    kept: Kept[int] = Kept(2)

    def fail() -> int:
        raise ValueError("no")

    with pytest.raises(ValueError, match="no"):
        kept.get("a", fail)
    assert kept.get("a", lambda: 3) == 3


def test_the_oldest_goes_first() -> None:
    kept: Kept[int] = Kept(2)
    for key in (1, 2, 1, 3):
        kept.get(key, lambda key=key: key)
    assert kept.get(1, lambda: 10) == 1
    assert kept.get(2, lambda: 20) == 20


def test_what_only_speeds_up_is_let_go_of_once_nobody_asks(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ease, "_QUIET_S", 0.3)
    let_go: list[float] = []
    gone = threading.Event()
    memory = ease.Ease(lambda: let_go.append(time.monotonic()), gone.set)
    memory.start()
    for _ in range(4):
        last = time.monotonic()
        memory.asked()
        time.sleep(0.1)  # shorter than it waits
    assert gone.wait(10)
    assert let_go[0] >= last + 0.3
    assert len(let_go) == 1
