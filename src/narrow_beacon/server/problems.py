"""Errors as problem details (RFC 9457), in words for the observer."""

from __future__ import annotations

import json
import logging

from apiflask import APIFlask
from flask import Response
from sqlalchemy.exc import DataError, InterfaceError, OperationalError
from werkzeug.exceptions import HTTPException

from narrow_beacon.core.disk import FULL, disk_words
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.store.actions import OvertakenError
from narrow_beacon.store.database import RecordsAwayError, is_busy

log = logging.getLogger(__name__)


class Problem(Exception):  # noqa: N818 - the word of RFC 9457
    """An answer other than the one that was asked for."""

    def __init__(self, status: int, title: str, detail: str = "") -> None:
        super().__init__(detail or title)
        self.status, self.title, self.detail = status, title, detail


def answer(status: int, title: str, detail: str = "") -> Response:
    """A problem as a response."""
    body = {"type": "about:blank", "title": title, "status": status, "detail": detail}
    return Response(json.dumps(body), status, content_type="application/problem+json")


def _away() -> Response:
    return answer(
        503,
        "The records cannot be reached",
        "MariaDB does not answer, or too slowly. Nothing is lost; the page goes on as soon as it "
        "is back. If it stays away, stop ./beacon start and start it again.",
    )


def install(app: APIFlask) -> None:
    """Answer every error of the application with a problem."""

    @app.errorhandler(Problem)
    def own(problem: Problem) -> Response:
        return answer(problem.status, problem.title, problem.detail)

    @app.errorhandler(OvertakenError)
    def overtaken(error: OvertakenError) -> Response:
        return answer(412, "Changed elsewhere meanwhile", str(error))

    @app.errorhandler(BeaconError)
    def core(error: BeaconError) -> Response:
        return answer(409, "This could not be done", str(error))

    @app.errorhandler(RecordsAwayError)
    def away(_: RecordsAwayError) -> Response:
        return _away()

    @app.errorhandler(OperationalError)
    @app.errorhandler(InterfaceError)
    def database(error: OperationalError | InterfaceError) -> Response:
        if is_busy(error):
            log.warning("the database is busy: %s", str(error).splitlines()[0])
            return answer(
                409,
                "Another change came first",
                "A job was writing the same records at this moment. Nothing of this was taken "
                "over; do it once more.",
            )
        log.warning("the database is away: %s", str(error).splitlines()[0])
        return _away()

    @app.errorhandler(DataError)
    def data(error: DataError) -> Response:
        log.warning("not kept: %s", str(error.orig)[:300])
        return answer(
            422, "Not kept", "A text is too long, or a number too large, for the records."
        )

    @app.errorhandler(OSError)
    def disk(error: OSError) -> Response:
        log.exception("the disk refused")
        return answer(507 if error.errno in FULL else 409, "Not written", disk_words(error))

    @app.errorhandler(HTTPException)
    def http(error: HTTPException) -> Response:
        return answer(error.code or 500, error.name, error.description or "")

    @app.errorhandler(Exception)
    def unexpected(error: Exception) -> Response:
        log.exception("request failed")
        return answer(
            500,
            "An error of the program",
            "What was kept before holds. The whole of it is in the server's log.",
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
