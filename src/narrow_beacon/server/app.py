"""The application: API, images, events and the built page, behind the security checks."""

from __future__ import annotations

import atexit
import threading

import numpy as np
from apiflask import APIFlask
from distributed import Client
from flask import Response, send_from_directory

from narrow_beacon import __version__
from narrow_beacon.core.curve.almanac import sky_above
from narrow_beacon.core.curve.time import Site
from narrow_beacon.core.frames.pyramid import halve, measure_brightness, to_words
from narrow_beacon.jobs.progress import Events
from narrow_beacon.jobs.runner import Runner
from narrow_beacon.server import (
    campaigns,
    cast,
    correct,
    curve,
    images,
    intake,
    live,
    measure,
    origin,
    place,
    problems,
    report,
    security,
    vet,
)
from narrow_beacon.server.config import ServerConfig, wait_for_config
from narrow_beacon.server.security import Folders
from narrow_beacon.server.state import ServerState
from narrow_beacon.store.database import Store

_ROOMS = (
    campaigns,
    intake,
    correct,
    vet,
    place,
    cast,
    measure,
    curve,
    report,
    origin,
    images,
    live,
)
_MOST_UPLOAD_BYTES = 2_000_000_000


def bare_app() -> APIFlask:
    """The routes without anything behind them: enough for the OpenAPI document."""
    app = APIFlask(
        "narrow_beacon", title="Narrow Beacon", version=__version__,
        spec_path="/api/openapi.json", docs_path=None,
    )  # fmt: skip
    app.config["MAX_CONTENT_LENGTH"] = _MOST_UPLOAD_BYTES
    problems.install(app)
    for room in _ROOMS:
        app.register_blueprint(room.blueprint)
    return app


def make_app(config: ServerConfig, *, run_jobs: bool = True) -> APIFlask:
    """The application with its records, jobs and page."""
    app = bare_app()
    app.secret_key = security.secret_key(config.secrets / "cookie-key")
    security.install(app, config.secrets / "tokens", set(config.hosts), config.password)
    store = Store(config.database_url, config.data)
    events = Events()
    client = Client(config.scheduler)
    runner = Runner(store, client, events, str(config.secrets.parent / "server.log"))
    app.extensions["narrow_beacon"] = ServerState(
        store, runner, events, Folders(list(config.folders)), config.cone_url, config.demo_folder
    )

    @app.get("/", defaults={"path": "index.html"})
    @app.get("/<path:path>")
    @app.doc(hide=True)
    def page(path: str) -> Response:
        """The built page; every address of its own is answered with its first file."""
        whole = config.page / path
        if not whole.is_file():
            path = "index.html"
        kept = "public, max-age=31536000, immutable" if path.startswith("assets/") else "no-cache"
        response = send_from_directory(config.page.resolve(), path)
        response.headers["Cache-Control"] = kept
        return response

    if run_jobs:
        atexit.register(runner.leave)  # runs before the client's own farewell
        runner.start()
    threading.Thread(target=_warm, name="warm", daemon=True).start()
    return app


def _warm() -> None:
    """Load what the first image and the first sky need, so that nobody waits for it."""
    image = np.arange(64 * 64, dtype=np.float32).reshape(64, 64)
    to_words(halve(image), measure_brightness(image))
    sky_above(np.array([2461000.5, 2461000.6]), 10.0, 40.0, Site(0.0, 0.0))


def from_environment() -> APIFlask:
    """For gunicorn: the environment names the file of the configuration."""
    return make_app(wait_for_config())
