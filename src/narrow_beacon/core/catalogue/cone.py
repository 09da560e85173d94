"""Ask a service for the stars in a circle by the IVOA Simple Cone Search protocol, version 1.03
(Plante et al. 2008, IVOA Recommendation).
"""

from __future__ import annotations

import re
from xml.etree import ElementTree

from narrow_beacon.core.catalogue.files import stars_from_votable
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.errors import CatalogueError

TIMEOUT_S = 20.0
_MOST_BYTES = 200_000_000


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

    params = {
        "RA": f"{ra_deg:.7f}",
        "DEC": f"{dec_deg:.7f}",
        "SR": f"{radius_deg:.6f}",
        "VERB": "2",
    }
    where = f"catalogue service {url}"
    try:
        with requests.get(url, params=params, timeout=timeout_s, stream=True) as answer:
            status = answer.status_code
            body = answer.raw.read(_MOST_BYTES + 1, decode_content=True)
    except requests.Timeout as error:
        raise CatalogueError(
            f"{where}: no answer within {timeout_s:g} s; try again or use a file"
        ) from error
    except (requests.RequestException, OSError) as error:
        raise CatalogueError(
            f"{where}: cannot be reached ({type(error).__name__}); "
            "check the address and the network, or use a file"
        ) from error
    if len(body) > _MOST_BYTES:
        raise CatalogueError(f"{where}: sent more than 200 MB; ask for a smaller circle")
    problem = _service_error(body)
    if problem:
        raise CatalogueError(f"{where}: refused the request: “{problem}”")
    if status != 200:
        raise CatalogueError(f"{where}: answered with HTTP status {status}")
    try:
        stars = stars_from_votable(body, url, epoch_yr)
    except CatalogueError as error:
        if "holds no star" in str(error):
            raise CatalogueError(
                f"{where}: has no stars within {radius_deg:g}° of {ra_deg:.4f}° {dec_deg:+.4f}°; "
                "is that its part of the sky?"
            ) from error
        raise
    except Exception as error:
        start = body[:60].decode("utf-8", "replace").strip()
        raise CatalogueError(f"{where}: sent no VOTable but “{start}…”") from error
    return stars


def _service_error(body: bytes) -> str | None:
    """The text of an error document of the protocol, or None.

    The standard puts it into an INFO or PARAM named Error; later services use QUERY_STATUS.
    """
    if not re.search(rb"name\s*=\s*[\"'](error|query_status)[\"']", body[:20000], re.I):
        return None
    try:
        root = ElementTree.fromstring(body)
    except ElementTree.ParseError:
        return None
    for element in root.iter():
        tag = element.tag.rpartition("}")[2]
        name = element.get("name", "").lower()
        if tag in ("INFO", "PARAM") and name == "error":
            return element.get("value") or (element.text or "").strip() or "no reason given"
        if tag == "INFO" and name == "query_status" and element.get("value", "").upper() == "ERROR":
            return (element.text or "").strip() or "no reason given"
    return None
