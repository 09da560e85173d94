"""The start command: everything up, an address with a key, everything down again."""

from __future__ import annotations

import contextlib
import os
import re
import signal
import subprocess
import sys
import tempfile
import time
import warnings
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import psutil
import pytest
import requests

from narrow_beacon.jobs.trust import make_trust
from narrow_beacon.simulate.cone_service import ConeService
from narrow_beacon.simulate.sky import make_sky

STRANGER = str(Path(__file__).parents[1] / "stranger.py")
COMMAND = [sys.executable, "-u", "-m", "narrow_beacon.cli", "start", "--no-demo"]


def write_sky(path: Path) -> Path:
    """A small catalogue for the stand-in service."""
    make_sky(np.random.default_rng(1), "Sorrel", 295.26, 38.2, 0.2, 300.0).write_votable(path)
    return path


class Started:
    """A start command in a process of its own, and what it said until it gave an address."""

    def __init__(self, var: Path, *options: str, **environment: str) -> None:
        environment |= {"BEACON_VAR": str(var), "BEACON_FOLDERS": str(var.parent)}
        command = [*COMMAND[:-1], *options] if options else COMMAND
        self.process = subprocess.Popen(
            command, env={**os.environ, **environment},
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL, text=True,
        )  # fmt: skip
        assert self.process.stdout is not None
        self.said: list[str] = []
        for line in self.process.stdout:
            self.said.append(line)
            if "token=" in line:
                return
        raise AssertionError("gave no address:\n" + "".join(self.said))

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


def test_a_start_that_is_killed_while_it_makes_the_demo_leaves_nobody_behind(
    tmp_path: Path, start: Callable[[], Started]
) -> None:
    var = tmp_path / "var"
    process = subprocess.Popen(
        [*COMMAND[:-1], "--demo"], env={**os.environ, "BEACON_VAR": str(var)},
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    top = psutil.Process(process.pid)
    end = time.monotonic() + 60
    # Those that make the demo are children of children.
    while len(family := top.children(recursive=True)) <= len(top.children()):
        assert time.monotonic() < end, "nobody makes the demo"
        time.sleep(0.05)
    process.kill()
    process.wait()
    _, alive = psutil.wait_procs(family, timeout=20)
    assert not alive, [p.cmdline() for p in alive]
    assert start().answers  # on the same folder, which nobody holds


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become another user")
def test_another_user_of_the_machine_reaches_nothing() -> None:
    """Every port on which the application listens, and its folders, really tried as nobody."""
    with (
        tempfile.TemporaryDirectory() as folder,
        tempfile.TemporaryDirectory() as other,
        ConeService(write_sky(Path(other) / "sky.vot"), 0),
    ):
        Path(folder).chmod(0o755)
        started = Started(Path(folder) / "var")
        try:
            process = psutil.Process(started.process.pid)
            family = {os.getpid(), process.pid}
            family |= {p.pid for p in process.children(recursive=True)}
            ports = sorted({
                (c.laddr.ip, c.laddr.port) for c in psutil.net_connections("tcp")
                if c.status == "LISTEN" and c.pid in family
            })  # fmt: skip
            assert len(ports) >= 6
            told = subprocess.run(
                [sys.executable, STRANGER, repr(ports), folder, f"{folder}/var",
                 f"{folder}/var/data", f"{folder}/var/secrets"],
                capture_output=True, text=True, timeout=200, check=True,
            )  # fmt: skip
        finally:
            started.end(signal.SIGTERM)
    assert told.stdout.splitlines() == ["reached: []", f"read: ['{folder}/var']"]


def test_another_address_needs_a_password() -> None:
    done = subprocess.run(
        [*COMMAND, "--bind", "0.0.0.0"],
        env={k: v for k, v in os.environ.items() if k != "BEACON_PASSWORD"},
        capture_output=True, text=True, timeout=60,
    )  # fmt: skip
    assert done.returncode == 2
    assert "BEACON_PASSWORD" in done.stdout


def test_another_address_needs_a_certificate_unless_told_otherwise(tmp_path: Path) -> None:
    environment = {**os.environ, "BEACON_PASSWORD": "a long night"}
    done = subprocess.run(
        [*COMMAND, "--bind", "::"], env=environment, capture_output=True, text=True, timeout=60
    )
    assert done.returncode == 2
    assert "--cert FILE --key FILE" in done.stdout
    own = make_trust(tmp_path / "own")
    more = ("--bind", "::", "--cert", str(own / "cert.pem"), "--key", str(own / "key.pem"))
    started = Started(tmp_path / "var", "--no-demo", *more, BEACON_PASSWORD="a long night")
    try:
        url = started.address.split("/?")[0]
        assert url.startswith("https://[::1]:")
        with requests.Session() as session, warnings.catch_warnings():
            warnings.simplefilter("ignore")  # the certificate is for no name
            assert session.get(url, verify=False, timeout=20).status_code == 401
            form = {"password": "a long night"}
            session.post(f"{url}/api/session", data=form, verify=False, timeout=20)
            assert session.get(f"{url}/api/state", verify=False, timeout=20).ok
            assert all(cookie.secure for cookie in session.cookies)
        with pytest.raises(requests.RequestException):
            requests.get(url.replace("https", "http"), timeout=5)
    finally:
        started.end(signal.SIGTERM)


@pytest.mark.parametrize("what", ["mariadbd", "narrow_beacon.server.web", "forkserver"])
def test_a_part_that_is_killed_is_begun_again(start: Callable[[], Started], what: str) -> None:
    started = start()
    process = psutil.Process(started.process.pid)
    found = [p for p in process.children(recursive=True) if what in " ".join(p.cmdline())]
    with requests.Session() as session:
        session.get(started.address, timeout=20)
        url = started.address.split("/?")[0]
        for victim in found:
            victim.kill()
        end = time.monotonic() + 120  # a busy machine is no error
        while True:
            with contextlib.suppress(requests.RequestException):
                if session.get(f"{url}/api/state", timeout=5).ok:
                    break
            assert time.monotonic() < end, "it stays away"
            time.sleep(0.1)
    said = started.end(signal.SIGTERM)
    assert ("is begun again" in said) == (what != "forkserver")  # the nannies see to workers


def test_an_end_while_it_starts_is_obeyed(tmp_path: Path) -> None:
    process = subprocess.Popen(
        [*COMMAND[:-1], "--demo"], env={**os.environ, "BEACON_VAR": str(tmp_path / "var")},
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL, text=True,
    )  # fmt: skip
    assert process.stdout is not None
    assert "starts" in process.stdout.readline()
    process.send_signal(signal.SIGTERM)
    assert "stopped while it was starting" in process.communicate(timeout=120)[0]
    assert process.returncode == 0
