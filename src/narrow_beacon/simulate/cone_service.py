"""A stand-in for a catalogue service: answers cone searches on a VOTable of stars.

IVOA Simple Cone Search 1.03 (Plante et al. 2008): GET with RA, DEC, SR in degrees and VERB; the
answer is a VOTable with the UCDs that the standard names, an error is a VOTable with one INFO.
"""

from __future__ import annotations

import hmac
import io
import logging
import math
import secrets
import threading
from pathlib import Path
from types import TracebackType

import numpy as np
from astropy.io import votable
from astropy.io.votable.tree import Info, Resource, TableElement, VOTableFile
from astropy.table import Table
from flask import Flask, Response, request
from werkzeug.serving import make_server

MIME_TYPE = "text/xml;content=x-votable"
LARGEST_RADIUS_DEG = 10.0
# Names, UCD1 of the standard, and the least verbosity at which the column is sent.
_COLUMNS = (
    ("name", "ID_MAIN", 1), ("ra", "POS_EQ_RA_MAIN", 1), ("dec", "POS_EQ_DEC_MAIN", 1),
    ("pm_ra", "POS_EQ_PMRA", 2), ("pm_dec", "POS_EQ_PMDEC", 2), ("epoch", "TIME_EPOCH", 2),
    ("B_mag", "PHOT_JHN_B", 2), ("B_err", "ERROR", 2), ("V_mag", "PHOT_JHN_V", 2),
    ("V_err", "ERROR", 2), ("variable", "VAR_FLAG", 2),
)  # fmt: skip


class _BadRequestError(ValueError):
    pass


logging.getLogger("werkzeug").setLevel(logging.ERROR)


def make_app(catalogue: Table, most_rows: int | None = None) -> Flask:
    """The service as a Flask application; the cone search is at ``/cone``. Of more than
    ``most_rows`` stars only so many are sent, with the standard's word on it.
    """
    app = Flask("narrow_beacon_cone")
    ra, dec = np.radians(catalogue["ra"]), np.radians(catalogue["dec"])

    @app.get("/cone")
    def cone() -> Response:
        try:
            centre_ra = _number("RA", 0.0, 360.0)
            centre_dec = _number("DEC", -90.0, 90.0)
            radius = _number("SR", 0.0, LARGEST_RADIUS_DEG)
            verbosity = int(_number("VERB", 1, 3, default=2))
        except _BadRequestError as error:
            return _answer(_error_document(str(error)))
        a0, d0 = math.radians(centre_ra), math.radians(centre_dec)
        haversine = (
            np.sin((dec - d0) / 2) ** 2 + np.cos(dec) * math.cos(d0) * np.sin((ra - a0) / 2) ** 2
        )
        inside = 2 * np.arcsin(np.sqrt(np.minimum(haversine, 1))) <= math.radians(radius)
        # A radius of 0 asks for the columns only.
        found = catalogue[inside & (radius > 0)]
        document = _document(found[:most_rows], verbosity)
        if most_rows is not None and len(found) > most_rows:
            document.resources[0].infos.append(Info(name="QUERY_STATUS", value="OVERFLOW"))
        return _answer(document)

    return app


def _number(name: str, low: float, high: float, default: float | None = None) -> float:
    given = {key.upper(): value for key, value in request.args.items()}
    text = given.get(name)
    if text is None:
        if default is None:
            raise _BadRequestError(f"{name} is missing")
        return default
    try:
        value = float(text)
    except ValueError as error:
        raise _BadRequestError(f"{name}: “{text}” is not a number") from error
    if not low <= value <= high:
        raise _BadRequestError(f"{name} = {value:g} is outside {low:g} to {high:g}")
    return value


def _document(table: Table, verbosity: int) -> VOTableFile:
    names = [name for name, _, least in _COLUMNS if least <= verbosity and name in table.colnames]
    document = votable.from_table(table[names])
    ucds = {name: ucd for name, ucd, _ in _COLUMNS}
    for entry in document.get_first_table().fields:
        entry.ucd = ucds[entry.name]
    return document


def _error_document(words: str) -> VOTableFile:
    document = VOTableFile()
    resource = Resource()
    resource.infos.append(Info(name="Error", value=words))
    resource.tables.append(TableElement(document))
    document.resources.append(resource)
    return document


def _answer(document: VOTableFile) -> Response:
    buffer = io.BytesIO()
    document.to_xml(buffer)
    return Response(buffer.getvalue(), content_type=MIME_TYPE)


class ConeService:
    """The service in a thread, on a free port of the loopback; use as a context manager.

    ``refusals``: so many of the next requests are answered as an overworked service does, by
    HTTP status 503. ``asked`` counts the requests.
    """

    def __init__(self, catalogue: Path, port: int = 0, most_rows: int | None = None) -> None:
        self.refusals = 0
        self.asked = 0
        table = votable.parse_single_table(catalogue).to_table(use_names_over_ids=True)
        # Only who was given the address may ask: other users of the machine get no answer.
        self._key = secrets.token_urlsafe(12)
        app = make_app(table, most_rows)
        app.before_request(self._refuse)
        self._server = make_server("127.0.0.1", port, app, threaded=True)
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True)

    @property
    def url(self) -> str:
        """Where to ask."""
        return f"http://127.0.0.1:{self._server.server_port}/cone?key={self._key}"

    def _refuse(self) -> Response | None:
        if hmac.compare_digest(request.args.get("key", "").encode(), self._key.encode()):
            self.asked += 1
            if self.refusals > 0:
                self.refusals -= 1
                return Response("Too much to do.", 503)
            return None
        return Response("This stand-in answers only at the address that it printed.", 401)

    def __enter__(self) -> ConeService:
        self._thread.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        value: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._server.shutdown()
        self._thread.join(10)
        self._server.server_close()
