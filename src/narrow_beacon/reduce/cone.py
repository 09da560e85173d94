"""Ask a service for the stars in a circle, over the network and with bounds to what it may do."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import TYPE_CHECKING
from urllib.parse import urljoin, urlsplit

from narrow_beacon.core.catalogue.cone import cone_question, read_answer
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.errors import CatalogueError

if TYPE_CHECKING:
    import requests

TIMEOUT_S = 20.0
_MOST_BYTES = 200_000_000
_MOST_REDIRECTS = 4
_WHOLE_ANSWER = 10
"""An answer may take so many times as long as the service may be silent."""


def search_cone(
    url: str,
    ra_deg: float,
    dec_deg: float,
    radius_deg: float,
    *,
    epoch_yr: float | None = None,
    timeout_s: float = TIMEOUT_S,
) -> StarTable:
    """Stars within ``radius_deg`` of a position (ICRS). Raises CatalogueError with what to do."""
    import requests  # slow to load, and seldom needed

    where = f"catalogue service {url}"
    try:
        status, body = _fetch(url, cone_question(ra_deg, dec_deg, radius_deg), timeout_s)
    except requests.Timeout as error:
        raise CatalogueError(
            f"{where}: no answer within {timeout_s:g} s; try again or use a file"
        ) from error
    except (requests.RequestException, OSError, ValueError) as error:
        raise CatalogueError(
            f"{where}: cannot be reached ({type(error).__name__}); "
            "check the address and the network, or use a file"
        ) from error
    if len(body) > _MOST_BYTES:
        raise CatalogueError(f"{where}: sent more than 200 MB; ask for a smaller circle")
    try:
        return read_answer(url, status, body, epoch_yr)
    except CatalogueError as error:
        if "has no stars there" not in str(error):
            raise
        raise CatalogueError(
            f"{where}: has no stars within {radius_deg:g}° of {ra_deg:.4f}° {dec_deg:+.4f}°; "
            "is that its part of the sky?"
        ) from error


def _fetch(url: str, params: Mapping[str, str], timeout_s: float) -> tuple[int, bytes]:
    """Status and body; follows a service only to another address of the same host and port.

    Raises CatalogueError where it sends on to elsewhere: who named the service did not name that.
    """
    import requests

    end = time.monotonic() + _WHOLE_ANSWER * timeout_s
    asked: Mapping[str, str] | None = params
    for _ in range(_MOST_REDIRECTS):
        with requests.get(
            url, params=asked, timeout=timeout_s, stream=True, allow_redirects=False
        ) as answer:
            goal = answer.headers.get("Location") if answer.is_redirect else None
            if goal is None:
                return answer.status_code, _body(answer, end)
        onward = urljoin(answer.url, goal)
        if _place(onward) != _place(answer.url):
            raise CatalogueError(
                f"catalogue service {url}: sends on to {urlsplit(onward).netloc[:80]}; give the "
                "address there, if you trust it"
            )
        url, asked = onward, None  # the goal holds the question already
    raise CatalogueError(f"catalogue service {url}: sends on and on; check the address")


def _place(url: str) -> tuple[str | None, int | None]:
    parts = urlsplit(url)
    return parts.hostname, parts.port or {"http": 80, "https": 443}.get(parts.scheme)


def _body(answer: requests.Response, end: float) -> bytes:
    """The body, up to a bound in bytes and in time: a service may drip."""
    import requests

    pieces, size = [], 0
    for piece in answer.iter_content(1 << 16):
        pieces.append(piece)
        size += len(piece)
        if size > _MOST_BYTES:
            break
        if time.monotonic() > end:
            raise requests.Timeout
    return b"".join(pieces)
