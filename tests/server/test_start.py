"""The start command: everything up, an address with a key, everything down again."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
import requests

COMMAND = [sys.executable, "-u", "-m", "narrow_beacon.cli", "start", "--no-demo"]


class Started:
    """A start command in a process of its own, and what it said until it gave an address."""

    def __init__(self, var: Path) -> None:
        self.process = subprocess.Popen(
            COMMAND, env={**os.environ, "BEACON_VAR": str(var), "BEACON_FOLDERS": str(var.parent)},
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL, text=True,
        )  # fmt: skip
        assert self.process.stdout is not None
        self.said: list[str] = []
        for line in self.process.stdout:
            self.said.append(line)
            if "token=" in line:
                break

    @property
    def address(self) -> str:
        return self.said[-1].strip()

    @property
    def answers(self) -> bool:
        try:
            requests.get(self.address, timeout=2)
        except requests.Timeout:
            return True
        except requests.ConnectionError:
            return False
        return True

    def end(self, how: signal.Signals) -> str:
        """End it; what it said at the end."""
        self.process.send_signal(how)
        return self.process.communicate(timeout=60)[0]


@pytest.fixture
def start(tmp_path: Path) -> Iterator[Callable[[], Started]]:
    started: list[Started] = []

    def begin() -> Started:
        started.append(Started(tmp_path / "var"))
        return started[-1]

    yield begin
    for one in started:
        if one.process.poll() is None:
            one.end(signal.SIGTERM)


def test_start_brings_all_of_it_up_and_ctrl_c_takes_it_down(
    start: Callable[[], Started],
) -> None:
    first = start()
    page = requests.get(first.address, timeout=20)
    assert page.status_code == 200
    assert '<div id="root">' in page.text
    assert len([line for line in first.said if re.search(r"\d+\.\d s$", line)]) == 4

    # Started again meanwhile: it shows the way to what runs.
    second = start()
    assert second.process.wait(30) == 0
    assert "runs already" in "".join(second.said)
    assert second.address.split("?")[0] == first.address.split("?")[0]
    assert requests.get(second.address, timeout=20).status_code == 200

    assert "jobs go on at the next start" in first.end(signal.SIGINT)
    assert first.process.returncode == 0
    assert not first.answers


def test_nothing_outlives_a_start_that_was_killed(start: Callable[[], Started]) -> None:
    killed = start()
    assert killed.answers
    killed.end(signal.SIGKILL)
    end = time.monotonic() + 30
    while killed.answers:
        assert time.monotonic() < end, "the server lives on"
        time.sleep(0.1)
    again = start()
    assert requests.get(again.address, timeout=20).status_code == 200
    # A closed terminal is an end in good order.
    assert "jobs go on at the next start" in again.end(signal.SIGHUP)
    assert again.process.returncode == 0


def test_another_address_needs_a_password() -> None:
    done = subprocess.run(
        [*COMMAND, "--bind", "0.0.0.0"],
        env={k: v for k, v in os.environ.items() if k != "BEACON_PASSWORD"},
        capture_output=True, text=True, timeout=60,
    )  # fmt: skip
    assert done.returncode == 2
    assert "BEACON_PASSWORD" in done.stdout
