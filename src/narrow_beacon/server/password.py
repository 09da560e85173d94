"""The password of a server that others reach: slow to check, and slower to whoever guesses."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from pathlib import Path

from werkzeug.security import check_password_hash, generate_password_hash

_FREE_TRIES = 5
_LONGEST_WAIT_S = 900.0
_MOST_TOGETHER = 60
_FORGET_S = 3600.0
_MOST_LETTERS = 500


def hash_of(password: str) -> str:
    """A salted scrypt hash of a password."""
    return generate_password_hash(password, "scrypt")


def is_another(password: str | None, kept: Path) -> bool:
    """Whether a password is another than the last time; its hash is kept for the next."""
    before = kept.read_text().strip() if kept.exists() else None
    if before is None and password is None:
        return False
    if before is not None and password is not None and check_password_hash(before, password):
        return False
    kept.parent.mkdir(parents=True, exist_ok=True)
    kept.unlink(missing_ok=True)
    if password is not None:
        kept.touch(0o600)
        kept.write_text(hash_of(password))
    return True


class Guard:
    """Checks passwords, one at a time, and makes whoever gives wrong ones wait.

    After five wrong ones from an address each further one doubles the wait, up to 15 minutes;
    with 60 wrong ones an hour from all addresses together, everyone new waits a minute. Who has
    come in already notices nothing of it.
    """

    def __init__(self, password_hash: str | None, clock: Callable[[], float] = time.monotonic):
        self._hash = password_hash
        self._clock = clock
        self._one = threading.Lock()
        self._wrong: dict[str, list[float]] = {}

    def wait_s(self, address: str) -> float:
        """How long an address has to wait before it may try again."""
        with self._one:
            return self._wait_s(address)

    def _wait_s(self, address: str) -> float:
        now = self._clock()
        for name, times in list(self._wrong.items()):
            self._wrong[name] = [at for at in times if now - at < _FORGET_S]
            if not self._wrong[name]:
                del self._wrong[name]
        own = self._wrong.get(address, [])
        waits = [0.0]
        if len(own) >= _FREE_TRIES:
            pause = min(_LONGEST_WAIT_S, 2.0 ** (len(own) - _FREE_TRIES + 1))
            waits.append(own[-1] + pause - now)
        everyone = sorted(at for times in self._wrong.values() for at in times)
        if len(everyone) >= _MOST_TOGETHER:
            waits.append(everyone[-1] + 60.0 - now)
        return max(waits)

    def opens(self, address: str, given: str) -> bool:
        """Whether a password is the right one; a wrong one is remembered against its address."""
        with self._one:
            if self._wait_s(address) > 0:
                return False
            right = (
                self._hash is not None
                and len(given) <= _MOST_LETTERS
                and check_password_hash(self._hash, given)
            )
            if right:
                self._wrong.pop(address, None)
            else:
                self._wrong.setdefault(address, []).append(self._clock())
            return right
