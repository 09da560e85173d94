"""One-time tokens: each opens the page once; only its hash is kept."""

from __future__ import annotations

import hashlib
import secrets
from pathlib import Path


def make_token(folder: Path) -> str:
    """A new one-time token; only its hash is kept."""
    token = secrets.token_urlsafe(24)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / hashlib.sha256(token.encode()).hexdigest()).touch(0o600)
    return token


def use_token(folder: Path, token: str) -> bool:
    """Whether a token is good; it is used up by asking."""
    try:
        (folder / hashlib.sha256(token.encode()).hexdigest()).unlink()
    except OSError:
        return False
    return True
