"""Everything that has to hold before a change lands: style, types, layers, tests."""

from __future__ import annotations

import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

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
SUITES = {
    "computation and the command line": ["tests/core", "tests/run"],
    "application and its page": ["tests/server", "tests/browser"],
}
PAGE_CHECKS = (
    ("page types", ["npx", "--no-install", "tsc", "--noEmit"]),
    ("page style", ["npx", "--no-install", "eslint", "--max-warnings", "0", "src"]),
    ("page format", ["npx", "--no-install", "prettier", "--check", "src"]),
    ("page tests", ["npx", "--no-install", "vitest", "run"]),
)


def check(name: str, command: list[str], folder: Path) -> tuple[bool, str]:
    """Run one check; whether it passed, and what there is to say."""
    begin = time.perf_counter()
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True)
    good = done.returncode == 0
    verdict = f"{name}: {'ok' if good else 'FAILED'} ({time.perf_counter() - begin:.0f} s)"
    return good, verdict if good else f"{verdict}\n{done.stdout}{done.stderr}"


def run_suites() -> list[subprocess.CompletedProcess[str]]:
    """All tests: those of the computation beside those of the application, which mostly waits."""
    with ThreadPoolExecutor(len(SUITES)) as pool:
        running = {
            words: pool.submit(
                subprocess.run, [*PYTEST, *folders], cwd=ROOT, text=True,
                stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            )
            for words, folders in SUITES.items()
        }  # fmt: skip
        done = []
        for words, future in running.items():
            done.append(future.result())
            print(f"tests of the {words}:\n{done[-1].stdout}", flush=True)
    return done


def main(arguments: list[str]) -> int:
    """Run the checks, two at a time, then pytest with any further arguments; 0 if all passed."""
    failed = []
    every = [(name, command, ROOT) for name, command in CHECKS]
    every += [(name, command, ROOT / "web") for name, command in PAGE_CHECKS]
    with ThreadPoolExecutor(2) as pool:
        running = {name: pool.submit(check, name, command, at) for name, command, at in every}
        for name, future in running.items():
            good, words = future.result()
            print(words, flush=True)
            if not good:
                failed.append(name)
    suites = [subprocess.run([*PYTEST, *arguments], cwd=ROOT)] if arguments else run_suites()
    if any(suite.returncode for suite in suites):
        failed.append("tests")
    if failed:
        print(f"failed: {', '.join(failed)}")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
