"""What the server's process is told by what starts it."""

from __future__ import annotations

import json
import os
import time
from dataclasses import dataclass, field
from pathlib import Path

CONFIG_VARIABLE = "BEACON_SERVER_CONFIG"
"""Names the file in which the server finds its configuration."""
_WAIT_S = 1200.0


@dataclass(frozen=True)
class ServerConfig:
    """What the server needs to know. ``hosts`` are names besides loopback that it answers to."""

    database_url: str
    data: Path
    scheduler: str
    page: Path
    secrets: Path
    folders: tuple[Path, ...]
    cone_url: str = ""
    demo_folder: Path | None = None
    hosts: frozenset[str] = field(default_factory=frozenset)
    password: str | None = None

    def to_json(self) -> str:
        """For another process."""
        values = {
            **vars(self), "hosts": sorted(self.hosts), "folders": [str(f) for f in self.folders]
        }  # fmt: skip
        return json.dumps(values, default=str)

    @classmethod
    def from_json(cls, text: str) -> ServerConfig:
        """What ``to_json`` wrote."""
        v = json.loads(text)
        return cls(
            v["database_url"], Path(v["data"]), v["scheduler"], Path(v["page"]),
            Path(v["secrets"]), tuple(Path(f) for f in v["folders"]), v["cone_url"],
            Path(v["demo_folder"]) if v["demo_folder"] else None, frozenset(v["hosts"]),
            v["password"],
        )  # fmt: skip


def wait_for_config() -> ServerConfig:
    """The configuration, as soon as it is there. Raises TimeoutError."""
    path = Path(os.environ[CONFIG_VARIABLE])
    end = time.monotonic() + _WAIT_S
    while not path.exists():
        if time.monotonic() > end:
            raise TimeoutError(f"no configuration at {path} within {_WAIT_S:.0f} s")
        time.sleep(0.02)
    return ServerConfig.from_json(path.read_text())
