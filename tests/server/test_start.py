"""The start command: everything up, an address with a key, everything down again."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
from pathlib import Path

import requests


def test_start_brings_all_of_it_up_and_ctrl_c_takes_it_down(tmp_path: Path) -> None:
    environment = {
        **os.environ,
        "BEACON_VAR": str(tmp_path / "var"),
        "BEACON_FOLDERS": str(tmp_path),
    }
    process = subprocess.Popen(
        [sys.executable, "-u", "-m", "narrow_beacon.cli", "start", "--no-demo"],
        env=environment, stdout=subprocess.PIPE, stdin=subprocess.DEVNULL, text=True,
    )  # fmt: skip
    assert process.stdout is not None
    said = []
    try:
        for line in process.stdout:
            said.append(line)
            if "token=" in line:
                break
        address = said[-1].strip()
        page = requests.get(address, timeout=20)
        assert page.status_code == 200
        assert '<div id="root">' in page.text
        port = re.search(r":(\d+)/", address)
        assert port
    finally:
        process.send_signal(signal.SIGINT)
        rest = process.communicate(timeout=60)[0]
    assert process.returncode == 0
    assert "jobs go on at the next start" in rest
    steps = [line for line in said if re.search(r"\d+\.\d s$", line)]
    assert len(steps) == 4
    try:
        requests.get(address, timeout=2)
    except requests.ConnectionError:
        return
    raise AssertionError("the server still answers")


def test_another_address_needs_a_password() -> None:
    done = subprocess.run(
        [sys.executable, "-m", "narrow_beacon.cli", "start", "--bind", "0.0.0.0"],
        env={k: v for k, v in os.environ.items() if k != "BEACON_PASSWORD"},
        capture_output=True, text=True, timeout=60,
    )  # fmt: skip
    assert done.returncode == 2
    assert "BEACON_PASSWORD" in done.stdout
