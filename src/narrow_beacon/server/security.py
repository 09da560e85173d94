"""Who may talk to the server: host and origin, the one-time token, the session, folders."""

from __future__ import annotations

import math
from pathlib import Path
from typing import cast
from urllib.parse import urlsplit

from apiflask import APIFlask
from flask import Response, redirect, request

from narrow_beacon.core.gate import Gate, OutsideError
from narrow_beacon.server.door import LOOK_COOKIE, door_page
from narrow_beacon.server.password import Guard
from narrow_beacon.server.problems import Problem, answer
from narrow_beacon.server.sessions import Sessions
from narrow_beacon.server.tokens import use_token

_LOOPBACK = {"127.0.0.1", "localhost", "[::1]"}
COOKIE = "narrow_beacon"
SIGN_IN_PATH = "/api/session"
_COOKIE_S = 30 * 86400
_MOST_FORM_BYTES = 4000


def install(
    app: APIFlask, tokens: Path, sessions: Sessions, hosts: set[str], guard: Guard | None
) -> None:
    """Check every request before anything else sees it. ``guard`` knows the password, where
    there is one.
    """
    allowed = _LOOPBACK | hosts

    def host_name(netloc: str) -> str:
        return netloc if netloc.endswith("]") else netloc.rsplit(":", 1)[0]

    def come_in(status: int) -> Response:
        response = cast(Response, redirect("/", status))
        response.set_cookie(
            COOKIE, sessions.begin(), max_age=_COOKIE_S, httponly=True, samesite="Strict",
            secure=request.is_secure,
        )  # fmt: skip
        return response

    @app.before_request
    def check() -> Response | None:
        if host_name(request.host) not in allowed:
            return answer(421, "Unknown host", "This server answers on its own address only.")
        origin = request.headers.get("Origin")
        if origin and (urlsplit(origin).netloc != request.host):
            return answer(403, "Foreign origin", "Another site's page may not use this server.")
        if request.headers.get("Sec-Fetch-Site") == "cross-site" and request.path != "/":
            return answer(403, "Foreign origin", "Another site's page may not use this server.")
        if request.path == SIGN_IN_PATH and request.method == "POST":
            return None
        if sessions.known(request.cookies.get(COOKIE, "")):
            return None
        token = request.args.get("token")
        if request.path == "/" and token and use_token(tokens, token):
            return come_in(302)
        if request.path.startswith("/api/"):
            return answer(
                401,
                "Not signed in",
                "Open the address that ./beacon start printed; press Enter there for a new one.",
            )
        return door(401)

    def door(status: int, said: str = "") -> Response:
        look = request.cookies.get(LOOK_COOKIE, "")
        page = door_page(look, password=guard is not None, said=said)
        return Response(page, status, content_type="text/html")

    @app.post(SIGN_IN_PATH)
    @app.doc(hide=True)
    def sign_in() -> Response:
        request.max_content_length = _MOST_FORM_BYTES
        address = request.remote_addr or ""
        wait_s = guard.wait_s(address) if guard else 0.0
        if wait_s > 0:
            seconds = str(math.ceil(wait_s))
            refusal = door(429, f"Too many wrong passwords. Try again in {seconds} s.")
            refusal.headers["Retry-After"] = seconds
            return refusal
        if guard is None or not guard.opens(address, request.form.get("password", "")):
            return door(403, "That is not the password. Try again, or ask who started it.")
        return come_in(303)

    @app.delete(SIGN_IN_PATH)
    @app.doc(hide=True)
    def sign_out() -> Response:
        sessions.end(request.cookies.get(COOKIE, ""))
        response = Response(status=204)
        response.delete_cookie(COOKIE)
        return response

    @app.after_request
    def headers(response: Response) -> Response:
        response.headers["Content-Security-Policy"] = (
            "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; "
            "font-src 'self' data:; frame-ancestors 'none'"
        )
        response.headers["X-Content-Type-Options"] = "nosniff"
        response.headers["Referrer-Policy"] = "no-referrer"
        return response


class Folders:
    """The folders below which the observer lets the program read, for what the page asks."""

    def __init__(self, allowed: list[Path]) -> None:
        self.gate = Gate.below(allowed)

    @property
    def allowed(self) -> list[Path]:
        """The folders themselves."""
        return list(self.gate.roots or ())

    def allows(self, path: Path) -> bool:
        """Whether a path lies below a folder that may be read."""
        return self.gate.allows(path)

    def check(self, text: str) -> Path:
        """The folder or file at a path. Raises Problem where it is elsewhere or missing."""
        try:
            path = Path(text).expanduser()
        except RuntimeError as error:
            raise Problem(422, "Not a full path", f"“{text}”: {error}") from error
        if not path.is_absolute() or "\0" in text:
            raise Problem(422, "Not a full path", f"“{text}” has to begin with /.")
        try:
            path = self.gate.check(path)
        except OutsideError as error:
            raise Problem(403, "Folder not allowed", str(error)) from error
        try:
            path.stat()
        except FileNotFoundError as error:
            words = f"There is nothing at {path}. Was it moved?"
            raise Problem(404, "No such folder", words) from error
        except OSError as error:
            raise Problem(422, "Cannot be opened", f"{path}: {error.strerror}.") from error
        return path
