"""Errors as problem details (RFC 9457), in words for the observer."""

from __future__ import annotations

import json
import logging

from apiflask import APIFlask
from flask import Response
from sqlalchemy.exc import InterfaceError, OperationalError
from werkzeug.exceptions import HTTPException

from narrow_beacon.core.errors import BeaconError

log = logging.getLogger(__name__)
# MariaDB: the row has changed since it was read, the wait for it was too long, a deadlock.
_BUSY = {(1020,), (1205,), (1213,)}


class Problem(Exception):  # noqa: N818 - the word of RFC 9457
    """An answer other than the one that was asked for."""

    def __init__(self, status: int, title: str, detail: str = "") -> None:
        super().__init__(detail or title)
        self.status, self.title, self.detail = status, title, detail


def answer(status: int, title: str, detail: str = "") -> Response:
    """A problem as a response."""
    body = {"type": "about:blank", "title": title, "status": status, "detail": detail}
    return Response(json.dumps(body), status, content_type="application/problem+json")


def install(app: APIFlask) -> None:
    """Answer every error of the application with a problem."""

    @app.errorhandler(Problem)
    def own(problem: Problem) -> Response:
        return answer(problem.status, problem.title, problem.detail)

    @app.errorhandler(BeaconError)
    def core(error: BeaconError) -> Response:
        return answer(409, "This could not be done", str(error))

    @app.errorhandler(OperationalError)
    @app.errorhandler(InterfaceError)
    def database(error: OperationalError | InterfaceError) -> Response:
        if error.orig is not None and error.orig.args[:1] in _BUSY:
            log.warning("the database is busy: %s", str(error).splitlines()[0])
            return answer(
                409,
                "Another change came first",
                "A job was writing the same records at this moment. Nothing of this was taken "
                "over; do it once more.",
            )
        log.warning("the database is away: %s", str(error).splitlines()[0])
        return answer(
            503,
            "The records cannot be reached",
            "MariaDB does not answer. Nothing is lost; the page goes on as soon as it is back. "
            "If it stays away, stop ./beacon start and start it again.",
        )

    @app.errorhandler(HTTPException)
    def http(error: HTTPException) -> Response:
        return answer(error.code or 500, error.name, error.description or "")

    @app.errorhandler(Exception)
    def unexpected(error: Exception) -> Response:
        log.exception("request failed")
        return answer(
            500, "An error of the program", f"{type(error).__name__}: {error}. It is in the log."
        )

    @app.error_processor
    def validation(error: object) -> Response:
        status = getattr(error, "status_code", 500)
        detail = getattr(error, "detail", {}) or {}
        words = "; ".join(
            f"{name}: {', '.join(str(text) for text in texts)}"
            for part in detail.values()
            if isinstance(part, dict)
            for name, texts in part.items()
        )
        return answer(status, getattr(error, "message", "Error"), words)
