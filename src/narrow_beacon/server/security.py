"""Who may talk to the server: host and origin, the one-time token, the session cookie, folders."""

from __future__ import annotations

import hmac
import os
import secrets
import time
from pathlib import Path
from urllib.parse import urlsplit

from apiflask import APIFlask
from flask import Response, redirect, request, session

from narrow_beacon.server.problems import Problem, answer
from narrow_beacon.server.tokens import use_token

_LOOPBACK = {"127.0.0.1", "localhost", "[::1]"}
_OPEN_PATHS = {"/api/session"}
_WRONG_PASSWORD_WAIT_S = 0.5
_NO_ENTRY = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Narrow Beacon</title>
<body style="background:#13120f;color:#ece6d8;font:16px sans-serif;margin:20vh 20vw">
<h1 style="font-size:20px">This address needs its one-time key</h1>
<p>Narrow Beacon only answers to who started it. Open the address that
<code>./beacon start</code> printed; press Enter there for a new one.</p>"""
_PASSWORD_FORM = """
<form method="post" action="/api/session"><p><label>Or give the password of this server:
<input name="password" type="password" autocomplete="current-password" required
style="font:inherit;margin:0 8px"></label>
<button style="font:inherit">Come in</button></p></form>"""


def secret_key(path: Path) -> str:
    """The key that signs session cookies, made at first use."""
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "w") as file:
            file.write(secrets.token_urlsafe(32))
    return path.read_text().strip()


def install(app: APIFlask, tokens: Path, hosts: set[str], password: str | None) -> None:
    """Check every request before anything else sees it."""
    allowed = _LOOPBACK | hosts
    app.config.update(
        SESSION_COOKIE_NAME="narrow_beacon",
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Strict",
        PERMANENT_SESSION_LIFETIME=30 * 86400,
    )

    def host_name(netloc: str) -> str:
        return netloc if netloc.endswith("]") else netloc.rsplit(":", 1)[0]

    @app.before_request
    def check() -> Response | None:
        if host_name(request.host) not in allowed:
            return answer(421, "Unknown host", "This server answers on its own address only.")
        origin = request.headers.get("Origin")
        if origin and (urlsplit(origin).netloc != request.host):
            return answer(403, "Foreign origin", "Another site's page may not use this server.")
        if request.headers.get("Sec-Fetch-Site") == "cross-site" and request.path != "/":
            return answer(403, "Foreign origin", "Another site's page may not use this server.")
        if request.path in _OPEN_PATHS or session.get("known"):
            return None
        token = request.args.get("token")
        if request.path == "/" and token and use_token(tokens, token):
            session["known"] = True
            session.permanent = True
            return redirect("/")  # type: ignore[return-value]
        if request.path.startswith("/api/"):
            return answer(
                401,
                "Not signed in",
                "Open the address that ./beacon start printed; press Enter there for a new one.",
            )
        page = _NO_ENTRY + (_PASSWORD_FORM if password else "")
        return Response(page, 401, content_type="text/html")

    @app.post("/api/session")
    @app.doc(hide=True)
    def sign_in() -> Response:
        given = request.form.get("password", "")
        if not password or not hmac.compare_digest(given.encode(), password.encode()):
            time.sleep(_WRONG_PASSWORD_WAIT_S)  # whoever guesses is held up
            return answer(403, "Wrong password", "Go back and try again, or ask who started it.")
        session["known"] = True
        session.permanent = True
        return redirect("/", 303)  # type: ignore[return-value]

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
    """The folders below which the observer lets the program read."""

    def __init__(self, allowed: list[Path]) -> None:
        self.allowed = [path.expanduser().resolve() for path in allowed]

    def allows(self, path: Path) -> bool:
        """Whether a path lies below a folder that may be read."""
        whole = path.resolve()
        return any(whole == root or root in whole.parents for root in self.allowed)

    def check(self, text: str) -> Path:
        """The folder or file at a path. Raises Problem where it is elsewhere or missing."""
        path = Path(text).expanduser()
        if not path.is_absolute():
            raise Problem(422, "Not a full path", f"“{text}” has to begin with /.")
        path = path.resolve()
        if not self.allows(path):
            roots = ", ".join(str(root) for root in self.allowed)
            raise Problem(
                403,
                "Folder not allowed",
                f"{path} is outside of the folders that may be read: {roots}. "
                "Start with --allow FOLDER to add one.",
            )
        if not path.exists():
            raise Problem(404, "No such folder", f"There is nothing at {path}. Was it moved?")
        return path
