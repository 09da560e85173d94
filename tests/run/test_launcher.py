"""The command `beacon` itself: it installs what is missing, or says exactly what to run."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2]
TOOLS = ("sh", "dirname", "sha256sum", "cut", "cat", "find", "sort", "xargs", "rm", "touch")
DATABASE = "mariadb-server-core mariadb-client-core"


class Machine:
    """A bare machine: the command, its set-up done, and programs that only note their calls."""

    def __init__(self, folder: Path) -> None:
        self.root, self.bin, self.calls = folder / "copy", folder / "bin", folder / "calls"
        for path in (self.root / "requirements", self.root / "web" / "src", self.bin):
            path.mkdir(parents=True)
        shutil.copy(ROOT / "beacon", self.root / "beacon")
        for kind in ("run", "dev"):
            shutil.copy(ROOT / "requirements" / f"{kind}.lock", self.root / "requirements")
        lock = (self.root / "requirements" / "dev.lock").read_bytes()
        (self.root / ".venv" / "bin").mkdir(parents=True)
        (self.root / ".venv" / ".dev-lock").write_text(hashlib.sha256(lock).hexdigest())
        for name in TOOLS:
            (self.bin / name).symlink_to(str(shutil.which(name)))
        self.has("python", where=self.root / ".venv" / "bin")
        web = self.root / "web"
        for name in ("package.json", "package-lock.json", "vite.config.ts", "index.html"):
            (web / name).write_text(name)
        (web / "src" / "page.ts").write_text("export {};\n")
        (web / "public").mkdir()
        self.user(1000)

    def has(self, *names: str, says: str = "", where: Path | None = None) -> None:
        """Programs that note how they are called and print something."""
        for name in names:
            path = (where or self.bin) / name
            path.write_text(f'#!/bin/sh\necho "{name} $*" >>"{self.calls}"\n{says}\n')
            path.chmod(0o755)

    def has_all(self) -> None:
        self.has("mariadbd", "mariadb-install-db", "my_print_defaults", "chromium")
        self.has("node")
        self.has("npm", says="mkdir -p node_modules")
        self.has("npx", says="mkdir -p dist")
        (self.bin / "mkdir").symlink_to(str(shutil.which("mkdir")))

    def user(self, number: int) -> None:
        self.has("id", says=f"echo {number}")

    def run(self, *arguments: str, **environment: str) -> subprocess.CompletedProcess[str]:
        self.calls.write_text("")
        return subprocess.run(
            ["sh", str(self.root / "beacon"), *arguments],
            env={"PATH": str(self.bin), "HOME": os.environ.get("HOME", "/"), **environment},
            capture_output=True, text=True, timeout=60,
        )  # fmt: skip

    def called(self, name: str) -> list[str]:
        return [line for line in self.calls.read_text().splitlines() if line.startswith(f"{name} ")]


@pytest.fixture
def machine(tmp_path: Path) -> Machine:
    return Machine(tmp_path)


def test_without_rights_it_prints_the_exact_command(machine: Machine) -> None:
    done = machine.run("start")
    assert done.returncode == 1
    assert f"  sudo apt-get update && sudo apt-get install -y {DATABASE}" in done.stderr
    assert not machine.called("python")


def test_with_rights_it_installs_what_is_missing_and_only_that(machine: Machine) -> None:
    machine.user(0)
    machine.has_all()
    (machine.bin / "mariadb-install-db").unlink()
    machine.has("apt-get")
    done = machine.run("start", "--no-demo")
    assert done.returncode == 0, done.stderr
    installed = machine.called("apt-get")
    assert installed[0] == "apt-get update -qq"
    assert installed[1].endswith(DATABASE)
    assert len(installed) == 2
    assert machine.called("python") == ["python -m narrow_beacon.cli start --no-demo"]


def test_another_database_needs_none_here(machine: Machine) -> None:
    machine.has_all()
    (machine.bin / "mariadbd").unlink()
    (machine.bin / "my_print_defaults").unlink()
    done = machine.run("start", BEACON_DATABASE_URL="mysql+pymysql://elsewhere/records")
    assert done.returncode == 0, done.stderr


def test_an_old_node_is_named(machine: Machine) -> None:
    machine.has_all()
    machine.has("node", says='case "$1" in --version) echo v18.3.0;; *) exit 1;; esac')
    done = machine.run("start")
    assert done.returncode == 1
    assert "Node.js 20 or newer is needed for the page; this is v18.3.0." in done.stderr


def test_the_page_is_built_once_and_again_when_a_source_changed(machine: Machine) -> None:
    machine.has_all()

    def built() -> tuple[int, int]:
        done = machine.run("start")
        assert done.returncode == 0, done.stderr
        return len(machine.called("npm")), len(machine.called("npx"))

    assert built() == (1, 1)
    assert built() == (0, 0)
    (machine.root / "web" / "src" / "page.ts").write_text("export const changed = true;\n")
    assert built() == (0, 1)
    (machine.root / "web" / "package-lock.json").write_text("other packages")
    assert built() == (1, 1)
    # The command line alone needs neither page nor database.
    (machine.bin / "mariadbd").unlink()
    (machine.bin / "node").unlink()
    assert machine.run("reduce", "plan.toml").returncode == 0
    assert machine.called("python") == ["python -m narrow_beacon.cli reduce plan.toml"]


def test_tests_need_a_browser_too(machine: Machine) -> None:
    machine.has_all()
    (machine.bin / "chromium").unlink()
    done = machine.run("test")
    assert done.returncode == 1
    assert "sudo apt-get install -y chromium" in done.stderr
