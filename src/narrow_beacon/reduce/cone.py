"""Ask a service for the stars in a circle, over the network and with bounds to what it may do."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Mapping
from functools import partial
from typing import TYPE_CHECKING
from urllib.parse import urljoin, urlsplit

import numpy as np

from narrow_beacon.core.catalogue.cone import CutShortError, cone_question, read_answer
from narrow_beacon.core.catalogue.files import NO_COLUMNS
from narrow_beacon.core.catalogue.sky_index import separation_deg
from narrow_beacon.core.catalogue.table import StarTable, joined
from narrow_beacon.core.catalogue.tables import TableFile, open_votable
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.core.place.solution import deproject

if TYPE_CHECKING:
    import requests

TIMEOUT_S = 20.0
_MOST_BYTES = 200_000_000
_MOST_REDIRECTS = 4
_BUSY = {429, 500, 502, 503, 504}
_PAUSES_S: tuple[float | None, ...] = (0.2, 1.0, None)
"""Before a busy service is asked again; the last answer counts."""
_MOST_HALVINGS = 5
_HALF = 0.51
"""A little more than half: the sky is no plane."""
_WHOLE_ANSWER = 10
"""An answer may take so many times as long as the service may be silent."""


class ServiceAwayError(CatalogueError):
    """A service that does not answer, or not now."""


class NoStarsError(CatalogueError):
    """A service has no stars at a place."""


def search_cone(
    url: str,
    ra_deg: float,
    dec_deg: float,
    radius_deg: float,
    *,
    epoch_yr: float | None = None,
    columns: Mapping[str, str] = NO_COLUMNS,
    timeout_s: float = TIMEOUT_S,
) -> StarTable:
    """Stars within ``radius_deg`` of a position (ICRS).

    A service that is busy or silent is asked again; one that sends no more than so many stars is
    asked for smaller circles. Raises CatalogueError with what to do.
    """
    ask = partial(_asked, url, epoch_yr=epoch_yr, columns=columns, timeout_s=timeout_s)
    return _whole(ask, (ra_deg, dec_deg), radius_deg, _MOST_HALVINGS)


def look_at_service(url: str, ra_deg: float, dec_deg: float, radius_deg: float) -> TableFile:
    """The table that a service sends of a circle, as it is. Raises CatalogueError."""
    import requests

    try:
        status, body = _fetch(url, cone_question(ra_deg, dec_deg, radius_deg), TIMEOUT_S)
        if status == requests.codes.ok:
            return open_votable(body, url)
    except requests.RequestException as error:
        raise ServiceAwayError(
            f"catalogue service {url}: cannot be reached ({type(error).__name__})"
        ) from error
    except CatalogueError:
        raise
    except Exception as error:
        raise CatalogueError(
            f"catalogue service {url}: sent no VOTable; is this the address of a cone search?"
        ) from error
    raise CatalogueError(f"catalogue service {url}: answered with HTTP status {status}")


def _whole(
    ask: Callable[..., StarTable], centre: tuple[float, float], radius_deg: float, halvings: int
) -> StarTable:
    try:
        return ask(*centre, radius_deg)
    except CutShortError:
        if not halvings:
            raise
    # Seven circles of half the radius cover one: one in the middle, six about it.
    tables = []
    for ra, dec in _seven(*centre, radius_deg):
        with contextlib.suppress(NoStarsError):
            tables.append(_whole(ask, (ra, dec), _HALF * radius_deg, halvings - 1))
    found = joined(tables)
    _, first = np.unique(np.round([found.ra_deg, found.dec_deg], 7), axis=1, return_index=True)
    inside = separation_deg(found.ra_deg[first], found.dec_deg[first], *centre) <= radius_deg
    return found.take(np.sort(first[inside]))


def _seven(ra_deg: float, dec_deg: float, radius_deg: float) -> list[tuple[float, float]]:
    away = radius_deg * np.sqrt(3.0) / 2.0
    turn = np.radians(np.arange(0.0, 360.0, 60.0))
    xi, eta = np.degrees(np.tan(np.radians(away))) * np.array([np.cos(turn), np.sin(turn)])
    ra, dec = deproject(xi, eta, ra_deg, dec_deg)
    return [(ra_deg, dec_deg), *zip(ra.tolist(), dec.tolist(), strict=True)]


def _asked(
    url: str,
    ra_deg: float,
    dec_deg: float,
    radius_deg: float,
    *,
    epoch_yr: float | None,
    columns: Mapping[str, str],
    timeout_s: float,
) -> StarTable:
    import requests  # slow to load, and seldom needed

    where = f"catalogue service {url}"
    status, body = 0, b""
    for again, pause in enumerate(_PAUSES_S):
        try:
            status, body = _fetch(url, cone_question(ra_deg, dec_deg, radius_deg), timeout_s)
        except requests.Timeout as error:
            if again:
                raise ServiceAwayError(
                    f"{where}: no answer within {timeout_s:g} s; try again or use a file"
                ) from error
        except (requests.RequestException, OSError, ValueError) as error:
            if pause is None or isinstance(error, ValueError):
                raise ServiceAwayError(
                    f"{where}: cannot be reached ({type(error).__name__}); "
                    "check the address and the network, or use a file"
                ) from error
        else:
            if pause is None or status not in _BUSY:
                break
        time.sleep(pause or 0.0)
    if len(body) > _MOST_BYTES:
        raise CatalogueError(f"{where}: sent more than 200 MB; ask for a smaller circle")
    try:
        return read_answer(url, status, body, epoch_yr, columns)
    except CatalogueError as error:
        if status in _BUSY:
            raise ServiceAwayError(str(error)) from error
        if "has no stars there" not in str(error):
            raise
        raise NoStarsError(
            f"{where}: has no stars within {radius_deg:.3g}° of {ra_deg:.4f}° {dec_deg:+.4f}°; "
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
