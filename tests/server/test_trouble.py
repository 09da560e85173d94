"""What goes wrong around a night: strangers, wrong folders, broken files, parts that stop."""

from __future__ import annotations

import itertools
import shutil
from pathlib import Path

import pymysql
import pytest
import requests
from apiflask import APIFlask
from flask import request
from sqlalchemy import select
from sqlalchemy.exc import OperationalError

from narrow_beacon.server.app import bare_app
from narrow_beacon.server.problems import install
from narrow_beacon.store.models import CensusFile
from running import Client, Running, small_night


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


def test_without_the_token_nothing_is_told(running: Running) -> None:
    page = requests.get(running.url, timeout=10)
    assert page.status_code == 401
    assert "one-time key" in page.text
    answer = requests.get(f"{running.url}/api/state", timeout=10)
    assert answer.status_code == 401
    assert "./beacon start" in answer.json()["detail"]


def test_an_address_of_the_api_that_is_none_is_not_answered_with_the_page(client: Client) -> None:
    for address in ("nonsense", "campaigns/1/cast"):
        answer = client.ask("GET", address)
        assert (answer.status_code, answer.headers["Content-Type"]) == (
            404, "application/problem+json",
        )  # fmt: skip
        assert address in answer.json()["detail"]


def test_a_token_opens_once(running: Running) -> None:
    address = running.address()
    assert requests.get(address, timeout=10).status_code == 200
    assert requests.get(address, timeout=10).status_code == 401


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({"Host": "elsewhere.example"}, 421),
        ({"Origin": "http://elsewhere.example"}, 403),
        ({"Sec-Fetch-Site": "cross-site"}, 403),
    ],
)
def test_foreign_hosts_and_pages_are_refused(
    client: Client, headers: dict[str, str], status: int
) -> None:
    answer = client.session.get(f"{client.url}/api/state", headers=headers, timeout=10)
    assert answer.status_code == status
    assert answer.headers["Content-Type"] == "application/problem+json"


@pytest.mark.parametrize(
    ("path", "status", "words"),
    [
        ("/etc", 403, "outside of the folders"),
        ("nights", 422, "begin with /"),
        ("{nights}/nowhere", 404, "Was it moved?"),
        ("{nights}/../../..", 403, "outside of the folders"),
    ],
)
def test_only_allowed_folders_are_read(
    running: Running, client: Client, path: str, status: int, words: str
) -> None:
    named = path.format(nights=running.nights)
    for method, where, body in (
        ("GET", f"folders?path={named}", None),
        ("POST", "campaigns", {"name": "no", "folders": [named]}),
    ):
        answer = client.ask(method, where, body)
        assert answer.status_code == status
        assert words in answer.json()["detail"]


def test_broken_files_are_listed_and_the_rest_goes_on(running: Running, client: Client) -> None:
    folder = running.nights / "broken"
    small_night(folder, exposures=7, seed=4)
    good = folder / "raw" / "foxglove-002.fits"
    (folder / "raw" / "cut.fits").write_bytes(good.read_bytes()[:9000])
    shutil.copy(good, folder / "raw" / "twice.fits")
    number = client.reduced(folder, "broken")
    reasons = {
        Path(f["name"]).name: f["part_reason"]
        for f in client.get(f"campaigns/{number}/intake")["files"]
        if f["part"] == "left out"
    }
    assert "cut short" in reasons["cut.fits"]
    assert "the same file as" in reasons["twice.fits"]
    assert len(client.get(f"campaigns/{number}/curve")["filters"][0]["file_ids"]) == 6


def test_a_job_goes_on_after_the_server_was_restarted(running: Running, client: Client) -> None:
    number = client.begin(running, "restarted")
    running.restart_server()
    after = running.client()
    assert after.wait(number)["state"] == "done"
    assert len(after.get(f"campaigns/{number}/curve")["filters"][0]["file_ids"]) == 11


def test_a_job_survives_the_database(running: Running, client: Client) -> None:
    number = client.begin(running, "database")
    port = running.database.port
    with running.client().listening() as events:
        told = (event["away"] for event in events if event["kind"] == "database")
        running.database.stop()
        try:
            away = client.ask("GET", f"campaigns/{number}")
            assert next(told)  # listeners hear that it is away, and then that it is back
        finally:
            running.database.start(port)
        assert not all(itertools.islice(told, 30))
    assert away.status_code == 503
    assert "Nothing is lost" in away.json()["detail"]
    assert client.wait(number)["state"] == "done"
    assert len(client.get(f"campaigns/{number}/curve")["filters"][0]["file_ids"]) == 11


@pytest.mark.parametrize(
    ("code", "status", "words"),
    [(1020, 409, "once more"), (1213, 409, "once more"), (2006, 503, "does not answer")],
)
def test_records_that_are_busy_are_not_called_away(code: int, status: int, words: str) -> None:
    app = APIFlask("busy")
    install(app)

    @app.get("/change")
    def change() -> str:
        raise OperationalError("UPDATE", {}, pymysql.err.OperationalError(code, "of the server"))

    answer = app.test_client().get("/change")
    assert answer.status_code == status
    assert words in answer.get_json(force=True)["detail"]


def test_a_job_can_be_stopped_and_begun_again(running: Running, client: Client) -> None:
    number = client.begin(running, "stopped")
    job = client.get(f"campaigns/{number}/jobs")["jobs"][0]
    client.ask("DELETE", f"jobs/{job['id']}")
    assert client.wait(number)["state"] == "cancelled"
    client.post(f"campaigns/{number}/jobs", {"kind": "reduce"})
    assert client.wait(number)["state"] == "done"


def test_a_second_run_measures_nothing_again(
    running: Running, client: Client, campaign: int
) -> None:
    def written() -> list[int]:
        with running.store.session() as session:
            files = session.scalars(select(CensusFile).where(CensusFile.campaign_id == campaign))
            return [Path(file.path).stat().st_mtime_ns for file in files]

    before = written()
    client.post(f"campaigns/{campaign}/jobs", {"kind": "census"})
    assert client.wait(campaign)["state"] == "done"
    assert written() == before


def test_what_a_job_replaced_meanwhile_is_asked_for_again() -> None:
    app, asked = bare_app(), []

    @app.route("/api/replaced", methods=["GET", "POST"])
    def replaced() -> str:
        asked.append(request.method)
        if len(asked) == 1:
            raise FileNotFoundError(2, "No such file or directory", "night.columns")
        return "there"

    client = app.test_client()
    assert client.get("/api/replaced").text == "there"
    assert asked == ["GET", "GET"]
    asked.clear()
    # What changes something is not done twice.
    assert client.post("/api/replaced").status_code == 409
    assert asked == ["POST"]
