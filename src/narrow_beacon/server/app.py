"""The application: API, images, events and the built page, behind the security checks."""

from __future__ import annotations

import atexit
import threading
import time

import numpy as np
from apiflask import APIFlask
from distributed import Client
from flask import Response, request, send_from_directory
from flask.typing import ResponseReturnValue
from sqlalchemy.exc import OperationalError

from narrow_beacon import __version__
from narrow_beacon.core.curve.almanac import sky_above
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.frames.pyramid import halve, measure_brightness, to_words
from narrow_beacon.jobs import trust
from narrow_beacon.jobs.atlas_maker import AtlasMaker
from narrow_beacon.jobs.depot import given_depot
from narrow_beacon.jobs.progress import Events
from narrow_beacon.jobs.runner import Runner
from narrow_beacon.server import (
    answers,
    campaigns,
    cast,
    catalogues,
    correct,
    curve,
    defects,
    field,
    images,
    intake,
    kits,
    layouts,
    live,
    measure,
    origin,
    other_curves,
    picks,
    place,
    pointing,
    points,
    problems,
    report,
    security,
    sequence,
    series,
    shelf,
    standard,
    targets,
    vet,
    vetting,
    wellformed,
)
from narrow_beacon.server.config import ServerConfig
from narrow_beacon.server.password import Guard
from narrow_beacon.server.security import Folders
from narrow_beacon.server.sessions import Sessions
from narrow_beacon.server.state import ServerState
from narrow_beacon.store.database import Store, is_busy

_ROOMS = (
    campaigns,
    intake,
    correct,
    picks,
    defects,
    kits,
    vet,
    vetting,
    place,
    pointing,
    cast,
    targets,
    sequence,
    field,
    measure,
    standard,
    curve,
    points,
    series,
    other_curves,
    report,
    layouts,
    origin,
    images,
    shelf,
    catalogues,
    live,
)
_MOST_UPLOAD_BYTES = 2_000_000_000
_PATIENCE_S = 15.0
_ASK_AGAIN_S = (0.05, 0.2, 0.5)


class _App(APIFlask):
    """Asks again where a job held the same records for a moment, a request is one transaction, or
    replaced the files that an answer was about to be read from.
    """

    def dispatch_request(self) -> ResponseReturnValue:
        for wait_s in _ASK_AGAIN_S:
            try:
                return super().dispatch_request()
            except OperationalError as error:
                if not is_busy(error) or request.mimetype == "multipart/form-data":
                    raise
            except FileNotFoundError:
                if request.method != "GET":
                    raise
            time.sleep(wait_s)
        return super().dispatch_request()


def bare_app() -> APIFlask:
    """The routes without anything behind them: enough for the OpenAPI document."""
    app = _App(
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
    security.install(
        app, config.secrets / "tokens", Sessions(config.secrets / "sessions"), set(config.hosts),
        Guard(config.password_hash) if config.password_hash else None,
    )  # fmt: skip
    wellformed.install(app)
    answers.install(app)
    events = Events()
    folders = Folders(list(config.folders))
    secure = trust.security(config.trust) if config.trust else None
    client = Client(config.scheduler, security=secure)
    depot = given_depot(config.data)
    runner = Runner(
        Store(config.database_url, config.data), client, events,
        str(config.secrets.parent / "server.log"), folders.gate, depot,
    )  # fmt: skip
    # With a depot catalogue files lie here, where no worker sees them.
    maker = client if depot is None else None
    atlases = AtlasMaker(Store(config.database_url, config.data), maker, events)
    store = Store(config.database_url, config.data, patience_s=_PATIENCE_S)
    store.away = lambda: runner.records_away
    app.extensions["narrow_beacon"] = ServerState(
        store, runner, events, folders, config.cone_url, config.demo_folder,
        atlases,
    )  # fmt: skip

    @app.get("/", defaults={"path": "index.html"})
    @app.get("/<path:path>")
    @app.doc(hide=True)
    def page(path: str) -> Response:
        """The built page; every address of its own is answered with its first file."""
        if path.startswith("api/"):
            raise problems.Problem(404, "No such address", f"Nothing can be read from /{path}.")
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
        atexit.register(atlases.leave)
        atlases.start()
    threading.Thread(target=_warm, name="warm", daemon=True).start()
    return app


def _warm() -> None:
    """Load what the first image and the first sky need, so that nobody waits for it."""
    image = np.arange(64 * 64, dtype=np.float32).reshape(64, 64)
    to_words(halve(image), measure_brightness(image))
    sky_above(np.array([2461000.5, 2461000.6]), 10.0, 40.0, Site(0.0, 0.0))
