"""What comes from Debian's packages: installed by an administrator, else said in one line."""

from __future__ import annotations

import os
import shutil
import subprocess

from narrow_beacon.core.errors import BeaconError

_PATHS = os.pathsep.join(("/usr/sbin", "/usr/bin", "/usr/local/sbin"))
_PROGRAMS = ("mariadbd", "mariadb-install-db", "my_print_defaults")
_PACKAGES = "mariadb-server-core mariadb-client-core"
_INSTALL_TIMEOUT_S = 900.0


class MissingPackagesError(BeaconError):
    """Debian packages are missing; says in one line how to install them."""


def find_program(name: str) -> str | None:
    """The full path of a program, also where a plain user's PATH does not look."""
    return shutil.which(name) or shutil.which(name, path=_PATHS)


def need_database() -> None:
    """Make sure that MariaDB's server is there. Raises MissingPackagesError."""
    if os.environ.get("BEACON_DATABASE_URL") or all(find_program(name) for name in _PROGRAMS):
        return
    line = f"apt-get update && apt-get install -y --no-install-recommends {_PACKAGES}"
    if os.geteuid() == 0 and shutil.which("apt-get"):
        environment = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
        done = subprocess.run(
            ["sh", "-c", line], env=environment, capture_output=True, text=True,
            timeout=_INSTALL_TIMEOUT_S,
        )  # fmt: skip
        if done.returncode == 0:
            return
    asked = f"sudo sh -c '{line}'" if shutil.which("sudo") else f"su -c '{line}'"
    raise MissingPackagesError(
        "MariaDB's server is missing. Run this as an administrator, then the same command "
        f"again:\n  {asked}"
    )
