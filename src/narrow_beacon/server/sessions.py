"""Who has come in: sessions that the server keeps, so that it can end them."""

from __future__ import annotations

import hashlib
import secrets
import time
from pathlib import Path

from narrow_beacon.core.words import counted

_IDLE_S = 30 * 86400
_MOST = 200


class Sessions:
    """Sessions as files of a folder; only the hash of what a browser shows is kept.

    One ends by itself when it was not used for 30 days, by signing out, and with all others when
    the password is another than before.
    """

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        folder.chmod(0o700)
        self._folder = folder

    def begin(self) -> str:
        """A new session; what its browser is to show."""
        kept = sorted(self._folder.iterdir(), key=lambda path: path.stat().st_mtime)
        for path in kept[: max(0, len(kept) - _MOST + 1)]:
            path.unlink(missing_ok=True)
        shown = secrets.token_urlsafe(32)
        self._file(shown).touch(0o600)
        return shown

    def known(self, shown: str) -> bool:
        """Whether a session goes on; asking keeps it alive."""
        path = self._file(shown)
        try:
            idle_s = time.time() - path.stat().st_mtime
            if idle_s > _IDLE_S:
                path.unlink()
                return False
            if idle_s > 3600:
                path.touch()
        except OSError:
            return False
        return True

    def end(self, shown: str) -> None:
        """Sign out."""
        self._file(shown).unlink(missing_ok=True)

    def end_all(self) -> str:
        """Sign everyone out; how many, in words."""
        kept = list(self._folder.iterdir())
        for path in kept:
            path.unlink(missing_ok=True)
        return counted(len(kept), "session")

    def _file(self, shown: str) -> Path:
        return self._folder / hashlib.sha256(shown.encode("utf-8", "replace")).hexdigest()
