"""Where things are: beside a checkout, or in the user's data folder for an installed package."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

_PACKAGE = Path(__file__).resolve().parent.parent


@dataclass(frozen=True)
class Places:
    """``var`` holds all that is written, ``page`` the built page.

    ``installed`` is true where the program is a package of its own, without a checkout about it.
    """

    var: Path
    data: Path
    page: Path
    installed: bool


def find_places() -> Places:
    """The places in force: BEACON_VAR, BEACON_DATA and BEACON_PAGE come first."""
    checkout = _PACKAGE.parents[1]
    installed = not (checkout / "beacon").is_file()
    usual = _user_data() if installed else checkout / "var"
    var = Path(os.environ.get("BEACON_VAR") or usual)
    data = Path(os.environ.get("BEACON_DATA") or var / "data")
    built = _PACKAGE / "page" if installed else checkout / "web" / "dist"
    return Places(var, data, Path(os.environ.get("BEACON_PAGE") or built), installed)


def _user_data() -> Path:
    base = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return Path(base) / "narrow-beacon"
