"""What the server's process is told by what starts it."""

from __future__ import annotations

import os
import time
from dataclasses import dataclass, field
from pathlib import Path

from pydantic import TypeAdapter

CONFIG_VARIABLE = "BEACON_SERVER_CONFIG"
"""Names the file in which the server finds its configuration."""
_WAIT_S = 1200.0


@dataclass(frozen=True)
class ServerConfig:
    """What the server needs to know. ``hosts`` are names besides loopback that it answers to;
    ``trust`` is the folder with the workers' certificates; ``certificate`` and ``key`` are for
    HTTPS; ``password_hash`` is of the password that opens the page, where there is one.
    """

    database_url: str
    data: Path
    scheduler: str
    page: Path
    secrets: Path
    folders: tuple[Path, ...]
    cone_url: str = ""
    demo_folder: Path | None = None
    hosts: frozenset[str] = field(default_factory=frozenset)
    password_hash: str | None = None
    trust: Path | None = None
    bind: str = "127.0.0.1"
    port: int = 0
    certificate: Path | None = None
    key: Path | None = None

    def to_json(self) -> str:
        """For another process."""
        return _ADAPTER.dump_json(self).decode()

    @classmethod
    def from_json(cls, text: str) -> ServerConfig:
        """What ``to_json`` wrote."""
        return _ADAPTER.validate_json(text)


_ADAPTER = TypeAdapter(ServerConfig)


def wait_for_config() -> ServerConfig:
    """The configuration, as soon as it is there. Raises TimeoutError."""
    path = Path(os.environ[CONFIG_VARIABLE])
    end = time.monotonic() + _WAIT_S
    while not path.exists():
        if time.monotonic() > end:
            raise TimeoutError(f"no configuration at {path} within {_WAIT_S:.0f} s")
        time.sleep(0.02)
    return ServerConfig.from_json(path.read_text())
