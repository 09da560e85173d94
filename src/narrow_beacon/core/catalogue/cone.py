"""The IVOA Simple Cone Search protocol, version 1.03 (Plante et al. 2008, IVOA Recommendation):
what to ask a service, and what its answer says.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from xml.etree import ElementTree

from narrow_beacon.core.catalogue.files import NO_COLUMNS, stars_from_votable
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.errors import CatalogueError

_MOST_WORDS = 200


def cone_question(ra_deg: float, dec_deg: float, radius_deg: float) -> dict[str, str]:
    """The parameters that ask for the stars within a radius of a position (ICRS)."""
    return {
        "RA": f"{ra_deg:.7f}", "DEC": f"{dec_deg:.7f}", "SR": f"{radius_deg:.6f}", "VERB": "2",
    }  # fmt: skip


class CutShortError(CatalogueError):
    """A service did not send all that it has: its answer reached the number of rows that it sends
    at the most.
    """


def read_answer(
    url: str,
    status: int,
    body: bytes,
    epoch_yr: float | None,
    columns: Mapping[str, str] = NO_COLUMNS,
) -> StarTable:
    """The stars of a service's answer and HTTP status. Raises CutShortError where there are more,
    CatalogueError with what to do.
    """
    where = f"catalogue service {url}"
    problem = _service_error(body)
    if problem:
        raise CatalogueError(f"{where}: refused the request: “{problem[:_MOST_WORDS]}”")
    if status != 200:
        raise CatalogueError(f"{where}: answered with HTTP status {status}")
    if re.search(rb"QUERY_STATUS\"?[^>]*OVERFLOW", body, re.I):
        raise CutShortError(f"{where}: has more stars there than it sends at once")
    try:
        return stars_from_votable(body, url, epoch_yr, columns)
    except CatalogueError as error:
        if "holds no star" in str(error):
            raise CatalogueError(
                f"{where}: has no stars there; is that its part of the sky?"
            ) from error
        raise
    except Exception as error:
        raise CatalogueError(
            f"{where}: sent no VOTable; is this the address of a cone search?"
        ) from error


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
