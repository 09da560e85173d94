"""Everything that has to hold before a change lands: style, types, layers, tests."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psutil

ROOT = Path(__file__).resolve().parent.parent
BIN = Path(sys.executable).parent

CHECKS = (
    ("style", [BIN / "ruff", "check", "src", "tests"]),
    ("format", [BIN / "ruff", "format", "--check", "src", "tests"]),
    ("types", [BIN / "mypy"]),
    ("layers", [BIN / "lint-imports"]),
    ("page types of the API", [sys.executable, "tests/api_types.py"]),
)
PYTEST = [sys.executable, "-m", "pytest"]
COMPUTATION = ("tests of the computation", [*PYTEST, "tests/core"])
COMMANDS = ("tests of the command line", [*PYTEST, "tests/run"])
SERVER = ("tests of the application", [*PYTEST, "tests/server"])
_LIFE = ROOT / "tests" / "endurance"
ENDURANCE = (
    "tests of what is killed and begun again",
    [*PYTEST, _LIFE / "test_start.py", _LIFE / "test_soak.py"],
)
REFUSED = (
    "tests of what is kept and what is refused",
    [*PYTEST, _LIFE, "--ignore", _LIFE / "test_start.py", "--ignore", _LIFE / "test_soak.py"],
)
BROWSER = ("tests of the page in a browser", [*PYTEST, "tests/browser"])
LANES = (SERVER, COMMANDS, REFUSED, COMPUTATION, BROWSER, ENDURANCE)
"""The longest first, so that none is left over at the end."""
_BEHIND = 10
_LANE_BYTES = 2.5e9
"""What one of them may need, with all the processes that it starts."""
WEB = Path(os.environ.get("BEACON_WEB", ROOT / "web"))
MODULES = WEB / "node_modules"
PAGE_CHECKS = (
    ("page types", ["node", MODULES / "typescript/bin/tsc", "--noEmit"]),
    ("page style", ["node", MODULES / "eslint/bin/eslint.js", "--max-warnings", "0", "src"]),
    ("page format", ["node", MODULES / "prettier/bin/prettier.cjs", "--check", "src"]),
    ("page tests", ["node", MODULES / "vitest/vitest.mjs", "run"]),
)
LIMIT_S = 4500.0
"""For the whole run, so that nothing hangs for ever: several times what it takes, since machines
are shared and may run at a quarter of their speed. A single test has its own limit in
pyproject.toml."""
_END = time.monotonic() + LIMIT_S


def check(name: str, command: Sequence[str | Path], folder: Path = ROOT) -> bool:
    """Run one check and say how it went; whether it passed."""
    begin = time.perf_counter()
    try:
        done = subprocess.run(
            command, cwd=folder, text=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            timeout=max(1.0, _END - time.monotonic()),
        )  # fmt: skip
    except subprocess.TimeoutExpired as error:
        said = error.stdout.decode() if isinstance(error.stdout, bytes) else error.stdout or ""
        lines = "\n".join(said.splitlines()[-40:])
        print(f"{name}: STOPPED, the whole run has a limit of {LIMIT_S:.0f} s\n{lines}", flush=True)
        return False
    good = done.returncode == 0
    tests = "pytest" in command
    words = f"{name}: {'ok' if good else 'FAILED'} ({time.perf_counter() - begin:.0f} s)"
    print(words if good and not tests else f"{words}\n{done.stdout}", flush=True)
    return good


def static() -> list[str]:
    """Names of the checks without tests of Python that failed."""
    every = [(name, command, ROOT) for name, command in CHECKS]
    every += [(name, command, WEB) for name, command in PAGE_CHECKS]
    return [name for name, command, folder in every if not check(name, command, folder)]


def lanes_at_once() -> int:
    """How many tests' processes run side by side: one more than there are processors, since each
    waits for a third of its time, and no more than there is memory for.
    """
    processors = len(os.sched_getaffinity(0))
    fits = int(psutil.virtual_memory().available / _LANE_BYTES)
    return max(1, min(processors + 1, fits, len(LANES)))


def main(arguments: list[str]) -> int:
    """Run all of it, or the checks and then pytest with its own arguments; 0 if all passed."""
    if arguments:
        failed = static()
        whole = [*PYTEST, *arguments]
        if subprocess.run(whole, cwd=ROOT, timeout=LIMIT_S).returncode:
            failed.append("tests")
    else:
        # The application's own workers stand back for whoever is at the page; others than they are
        # not to go before them here.
        os.nice(_BEHIND)
        with ThreadPoolExecutor(lanes_at_once()) as pool:
            checks = pool.submit(static)
            lanes = [pool.submit(check, *lane) for lane in LANES]
            failed = checks.result(LIMIT_S)
            if not all([lane.result(LIMIT_S) for lane in lanes]):
                failed.append("tests")
    if failed:
        print(f"failed: {', '.join(failed)}")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
