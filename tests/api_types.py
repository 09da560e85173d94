"""The page's types have to be those of the API; with --write they are made so."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

from narrow_beacon.server.app import bare_app

WEB = Path(__file__).resolve().parent.parent / "web"
MODULES = Path(os.environ.get("BEACON_WEB", WEB)) / "node_modules"
KEPT = WEB / "src" / "api" / "generated" / "schema.ts"


def main(write: bool) -> int:
    """0 if the kept types are up to date, or were written."""
    with tempfile.TemporaryDirectory() as folder:
        document, made = Path(folder) / "openapi.json", Path(folder) / "schema.ts"
        document.write_text(json.dumps(bare_app().spec))
        subprocess.run(
            [
                "node", str(MODULES / "openapi-typescript" / "bin" / "cli.js"), str(document),
                "-o", str(made),
            ],
            cwd=WEB, check=True, capture_output=True, timeout=120,
        )  # fmt: skip
        text = made.read_text()
    if write:
        KEPT.write_text(text)
        return 0
    if text == KEPT.read_text():
        return 0
    print(
        "web/src/api/generated/schema.ts is not what the API says; run: tests/api_types.py --write"
    )
    return 1


if __name__ == "__main__":
    sys.exit(main("--write" in sys.argv[1:]))
