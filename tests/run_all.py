"""Everything that has to hold before a change lands: style, types, layers, tests."""

from __future__ import annotations

import subprocess
import sys
import time
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
PAGE_CHECKS = (
    ("page types", ["npx", "--no-install", "tsc", "--noEmit"]),
    ("page style", ["npx", "--no-install", "eslint", "--max-warnings", "0", "src"]),
    ("page format", ["npx", "--no-install", "prettier", "--check", "src"]),
    ("page tests", ["npx", "--no-install", "vitest", "run"]),
)


def main(arguments: list[str]) -> int:
    """Run the checks, then pytest with any further arguments; 0 if all of it passed."""
    failed = []
    every = [(name, command, ROOT) for name, command in CHECKS]
    every += [(name, command, ROOT / "web") for name, command in PAGE_CHECKS]
    for name, command, folder in every:
        begin = time.perf_counter()
        done = subprocess.run(command, cwd=folder, capture_output=True, text=True)
        verdict = "ok" if done.returncode == 0 else "FAILED"
        print(f"{name}: {verdict} ({time.perf_counter() - begin:.0f} s)", flush=True)
        if done.returncode:
            failed.append(name)
            print(done.stdout + done.stderr, flush=True)
    tests = subprocess.run([sys.executable, "-m", "pytest", *arguments], cwd=ROOT)
    if tests.returncode:
        failed.append("tests")
    if failed:
        print(f"failed: {', '.join(failed)}")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
