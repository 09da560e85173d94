"""Who may come in, by which name, and what may be read: without a server around it."""

from __future__ import annotations

import asyncio
import gzip
import hashlib
import json
import os
import re
import socket
import stat
import time
from contextlib import ExitStack
from pathlib import Path

import pymysql
import pytest
import uvicorn
from apiflask import APIFlask
from distributed import Client as DaskClient
from flask import Flask
from flask.testing import FlaskClient
from sqlalchemy import text as sql
from sqlalchemy.exc import DatabaseError
from werkzeug.security import generate_password_hash

from narrow_beacon.jobs import trust
from narrow_beacon.serve.services import host_names
from narrow_beacon.server import answers, problems, security
from narrow_beacon.server.password import Guard, hash_of, is_another
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.security import Folders
from narrow_beacon.server.sessions import Sessions
from narrow_beacon.server.tokens import make_token, use_token
from narrow_beacon.server.web import PatientProtocol
from running import Running

QUICK_HASH = generate_password_hash("a long night", "pbkdf2:sha256:1")
"""For what is about the number of guesses; the real one is slow on purpose."""


def sha(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


def visitor(tmp_path: Path, password: str | None = None, **more: str) -> FlaskClient:
    app = APIFlask("door")
    problems.install(app)
    guard = Guard(hash_of(password)) if password else None
    sessions = Sessions(tmp_path / "sessions")
    security.install(app, tmp_path / "tokens", sessions, set(more.values()), guard)

    @app.get("/")
    @app.get("/api/inside")
    def inside() -> str:
        return "inside"

    return app.test_client()


class TestTokens:
    def test_one_opens_once_and_is_kept_only_as_a_hash(self, tmp_path: Path) -> None:
        token = make_token(tmp_path)
        (kept,) = tmp_path.iterdir()
        assert token not in kept.name + kept.read_text()
        assert use_token(tmp_path, token)
        assert not use_token(tmp_path, token)
        assert not use_token(tmp_path, "../../etc/passwd")

    def test_it_leaves_the_address_once_it_was_used(self, tmp_path: Path) -> None:
        client = visitor(tmp_path)
        answer = client.get(f"/?token={make_token(tmp_path / 'tokens')}")
        assert (answer.status_code, answer.location) == (302, "/")
        cookie = answer.headers["Set-Cookie"]
        assert "HttpOnly" in cookie
        assert "SameSite=Strict" in cookie
        assert client.get("/api/inside").text == "inside"

    def test_signing_out_ends_the_session_also_for_a_copy_of_its_cookie(
        self, tmp_path: Path
    ) -> None:
        client = visitor(tmp_path)
        client.get(f"/?token={make_token(tmp_path / 'tokens')}")
        copy = client.get_cookie("narrow_beacon")
        assert copy is not None
        assert copy.value not in "".join(p.name for p in (tmp_path / "sessions").iterdir())
        assert client.delete("/api/session").status_code == 204
        client.set_cookie("narrow_beacon", copy.value)
        assert client.get("/api/inside").status_code == 401

    def test_a_session_ends_when_it_is_not_used_and_with_a_new_password(
        self, tmp_path: Path
    ) -> None:
        sessions = Sessions(tmp_path / "sessions")
        old, used = sessions.begin(), sessions.begin()
        month_ago = time.time() - 31 * 86400
        os.utime(next(p for p in (tmp_path / "sessions").iterdir() if sha(old) == p.name),
                 (month_ago, month_ago))  # fmt: skip
        assert not sessions.known(old)
        assert sessions.known(used)
        assert is_another("first", tmp_path / "password")
        assert not is_another("first", tmp_path / "password")
        assert is_another("second", tmp_path / "password")
        assert "second" not in (tmp_path / "password").read_text()
        assert stat.S_IMODE((tmp_path / "password").stat().st_mode) == 0o600
        assert sessions.end_all() == "1 session"
        assert not sessions.known(used)


class TestPassword:
    def test_without_one_there_is_no_field_for_it(self, tmp_path: Path) -> None:
        client = visitor(tmp_path)
        assert 'type="password"' not in client.get("/").text
        assert client.post("/api/session", data={"password": ""}).status_code == 403

    def test_the_right_one_opens(self, tmp_path: Path) -> None:
        client = visitor(tmp_path, password="a long night")
        assert 'type="password"' in client.get("/").text
        wrong = client.post("/api/session", data={"password": "a short night"})
        assert wrong.status_code == 403
        assert client.get("/api/inside").status_code == 401
        right = client.post("/api/session", data={"password": "a long night"})
        assert (right.status_code, right.location) == (303, "/")
        assert client.get("/api/inside").text == "inside"

    def test_another_site_may_not_try(self, tmp_path: Path) -> None:
        client = visitor(tmp_path, password="a long night")
        answer = client.post(
            "/api/session",
            data={"password": "a long night"},
            headers={"Origin": "http://x.example"},
        )
        assert answer.status_code == 403
        assert client.get("/api/inside").status_code == 401

    def test_who_guesses_waits_ever_longer_and_others_do_not(self) -> None:
        now = [0.0]
        guard = Guard(QUICK_HASH, lambda: now[0])
        guesses = 0
        while now[0] < 3600.0:  # an hour of guessing as fast as is let
            now[0] += guard.wait_s("192.0.2.1")
            assert not guard.opens("192.0.2.1", f"guess {guesses}")
            guesses += 1
        assert guesses < 20
        assert guard.wait_s("192.0.2.1") > 0
        assert not guard.opens("192.0.2.1", "a long night")
        assert guard.opens("192.0.2.2", "a long night")

    def test_many_addresses_together_are_held_up_as_well(self) -> None:
        now = [0.0]
        guard = Guard(QUICK_HASH, lambda: now[0])
        for number in range(60):
            guard.opens(f"192.0.2.{number}", "a guess")
        assert guard.wait_s("198.51.100.1") == pytest.approx(60.0)
        now[0] += 61.0
        assert guard.opens("198.51.100.1", "a long night")

    def test_the_page_says_how_long(self, tmp_path: Path) -> None:
        client = visitor(tmp_path, password="a long night")
        for _ in range(5):
            client.post("/api/session", data={"password": "a guess"})
        refusal = client.post("/api/session", data={"password": "a long night"})
        assert refusal.status_code == 429
        assert "Try again in" in refusal.text
        assert 'type="password"' in refusal.text  # in words, where it can be tried again
        assert 0 < int(refusal.headers["Retry-After"]) <= 2


@pytest.mark.parametrize("look", ["", "night", "day", "red", "'>x"])
def test_the_door_wears_the_look_of_the_page(tmp_path: Path, look: str) -> None:
    client = visitor(tmp_path)
    client.set_cookie("narrow_beacon_look", look)
    text = client.get("/").text
    styles = (Path(__file__).parents[2] / "web/src/app.css").read_text()
    start = f'[data-look="{look}"]' if look in ("day", "red") else ":root"
    for name in ("ground", "ink", "beam"):
        found = re.search(rf"--{name}: (#\w+)", styles[styles.index(start) :])
        assert found is not None
        assert found.group(1) in text
    assert "'>x" not in text


class TestNames:
    @pytest.mark.parametrize(
        ("host", "status"),
        [
            ("127.0.0.1:8114", 401), ("localhost", 401), ("[::1]:8114", 401),
            ("dome.example:8114", 401), ("elsewhere.example", 421), ("127.0.0.1.example", 421),
        ],
    )  # fmt: skip
    def test_only_its_own_are_answered(self, tmp_path: Path, host: str, status: int) -> None:
        client = visitor(tmp_path, own="dome.example")
        assert client.get("/api/inside", headers={"Host": host}).status_code == status

    def test_a_server_on_all_addresses_goes_by_each_of_them(self) -> None:
        assert host_names("127.0.0.1") == frozenset()
        assert host_names("192.0.2.7") == {"192.0.2.7"}
        names = host_names("0.0.0.0")
        assert {"127.0.0.1", socket.gethostname()} <= names

    def test_pages_may_load_nothing_from_elsewhere(self, tmp_path: Path) -> None:
        headers = visitor(tmp_path).get("/").headers
        assert "default-src 'self'" in headers["Content-Security-Policy"]
        assert headers["X-Content-Type-Options"] == "nosniff"


class TestFolders:
    def test_links_do_not_lead_out(self, tmp_path: Path) -> None:
        nights, outside = tmp_path / "nights", tmp_path / "outside"
        nights.mkdir()
        outside.mkdir()
        (nights / "link").symlink_to(outside)
        (nights / "one").mkdir()
        folders = Folders([nights])
        assert folders.check(str(nights / "one")) == nights / "one"
        for text in (nights / "link", nights / ".." / "outside", outside, tmp_path):
            with pytest.raises(Problem, match="outside of the folders") as refusal:
                folders.check(str(text))
            assert refusal.value.status == 403
            assert "--allow FOLDER" in refusal.value.detail

    def test_a_name_that_begins_alike_is_another_folder(self, tmp_path: Path) -> None:
        (tmp_path / "nights").mkdir()
        (tmp_path / "nights-of-others").mkdir()
        with pytest.raises(Problem, match="outside of the folders"):
            Folders([tmp_path / "nights"]).check(str(tmp_path / "nights-of-others"))


def test_a_plan_leads_no_further_than_a_click(tmp_path: Path, running: Running) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret.csv").write_text("secret first line,of a file\n")
    folder = running.nights / "plan-that-leads-out"
    folder.mkdir()
    out = str(outside)
    lines = ("[frames]", f'folder = "{out}"', f'library = "{out}"', "[catalogue]",
             f'file = "{out}/secret.csv"', "[output]", f'layout = "{out}/a.toml"')  # fmt: skip
    (folder / "plan.toml").write_text("\n".join(lines))
    client = running.client()
    answer = client.ask("POST", "campaigns", {"name": "out", "folders": [str(folder)]})
    assert answer.status_code == 422
    assert answer.json()["detail"].count("outside of the folders that may be read") == 4
    assert "secret first" not in answer.text
    # A plan that is itself a link to elsewhere is none.
    (folder / "plan.toml").unlink()
    (outside / "plan.toml").write_text('[frames]\nfolder = "."\n')
    (folder / "plan.toml").symlink_to(outside / "plan.toml")
    made = client.post("campaigns", {"name": "link", "folders": [str(folder)]})
    assert made["folders"] == [str(folder)]
    client.wait(made["id"])
    files = client.get(f"campaigns/{made['id']}/intake")["files"]
    reasons = [file["part_reason"] for file in files]
    assert reasons == ["a link that leads out of the folders that may be read"]


def test_two_hundred_slow_strangers_and_forty_open_pages_hold_nobody_up(running: Running) -> None:
    client = running.client()
    cookie = "; ".join(f"{c.name}={c.value}" for c in client.session.cookies)
    with ExitStack() as held:
        for number in range(240):
            line = held.enter_context(socket.create_connection(("127.0.0.1", running.port), 5))
            host = f"Host: 127.0.0.1:{running.port}\r\n"
            listening = number < 40
            path = "/api/events" if listening else "/api/state"
            end = f"Cookie: {cookie}\r\n\r\n" if listening else "X-Slow: "
            line.sendall(f"GET {path} HTTP/1.1\r\n{host}{end}".encode())
        begin = time.monotonic()
        assert client.get("state")["version"]
        assert client.session.get(f"{client.url}/", timeout=5).ok
        assert time.monotonic() - begin < 1.0


def test_a_header_that_never_ends_is_ended(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(PatientProtocol, "header_s", 0.2)

    async def drip() -> float:
        config = uvicorn.Config(_Nothing(), ws="none", log_level="critical")
        server = uvicorn.Server(config)
        loop = asyncio.get_running_loop()
        config.load()
        listener = await loop.create_server(
            lambda: PatientProtocol(config, server.server_state, {}), "127.0.0.1", 0
        )
        reader, writer = await asyncio.open_connection(*listener.sockets[0].getsockname())
        begin = loop.time()
        writer.write(b"GET / HTTP/1.1\r\n")
        while loop.time() - begin < 5.0:
            writer.write(b"X")
            try:
                if await asyncio.wait_for(reader.read(1), 0.05) == b"":
                    break
            except TimeoutError:
                continue
            except ConnectionError:
                break
        listener.close()
        return loop.time() - begin

    assert 0.19 <= asyncio.run(drip()) < 2.0  # the clock of the loop ticks in milliseconds


class _Nothing:
    async def __call__(self, scope: object, receive: object, send: object) -> None:
        raise AssertionError("a request without an end came through")


def test_workers_take_code_only_from_who_shows_their_certificate(
    running: Running, tmp_path: Path
) -> None:
    with running.workers() as client:
        assert client.submit(abs, -1).result(timeout=30) == 1
    address = running.cluster.scheduler
    assert address.startswith("tls://127.0.0.1:")
    with pytest.raises((OSError, TimeoutError)):
        DaskClient(address.replace("tls", "tcp"), timeout=2)
    with pytest.raises((OSError, TimeoutError)):
        DaskClient(address, timeout=2, security=trust.security(trust.make_trust(tmp_path)))
    for path in running.cluster.trust.iterdir():
        assert stat.S_IMODE(path.stat().st_mode) == 0o600


@pytest.mark.parametrize(
    ("environment", "words"),
    [
        ({"BEACON_DASK": "tcp://node:8786"}, "runs code from anyone"),
        ({"BEACON_DASK": "tls://node:8786"}, "needs BEACON_DASK_TLS"),
        ({"BEACON_DASK": "tls://node:8786", "BEACON_DASK_TLS": "/nowhere"}, "are missing"),
    ],
)
def test_a_cluster_of_ones_own_is_taken_only_with_certificates(
    environment: dict[str, str], words: str
) -> None:
    assert trust.given_cluster({}) is None
    with pytest.raises(trust.TrustError, match=words):
        trust.given_cluster(environment)


@pytest.mark.parametrize(("user", "password"), [("root", ""), ("", ""), ("beacon", "")])
def test_the_records_open_to_nobody_without_the_password(
    running: Running, user: str, password: str
) -> None:
    with pytest.raises(pymysql.err.OperationalError, match="Access denied"):
        pymysql.connect(
            host="127.0.0.1", port=running.database.port, user=user, password=password,
            connect_timeout=5,
        )  # fmt: skip


def test_the_applications_account_has_its_own_tables_and_no_files(running: Running) -> None:
    with running.store.engine.connect() as connection:
        grants = " ".join(row[0] for row in connection.execute(sql("SHOW GRANTS")))
        assert "`narrow_beacon`.*" in grants
        for right in ("FILE", "SUPER", "GRANT OPTION", "ALL PRIVILEGES ON *.*"):
            assert right not in grants
        with pytest.raises(DatabaseError):
            connection.execute(sql("SELECT 1 INTO OUTFILE '/tmp/beacon-out'"))


def test_what_did_not_change_is_not_sent_again_and_what_leaves_the_machine_is_packed() -> None:
    app = Flask(__name__)
    answers.install(app)
    told = {"names": ["larkspur"] * 4000}
    app.add_url_rule("/long", "long", lambda: told)
    app.add_url_rule("/short", "short", lambda: {"name": "larkspur"})
    asks = app.test_client()
    packs = {"Accept-Encoding": "gzip"}
    here = asks.get("/long", headers=packs, environ_base={"REMOTE_ADDR": "127.0.0.1"})
    assert "Content-Encoding" not in here.headers
    assert here.json == told
    mark = here.headers["ETag"]
    away = {"REMOTE_ADDR": "192.0.2.7"}
    packed = asks.get("/long", headers=packs, environ_base=away)
    assert packed.headers["Content-Encoding"] == "gzip"
    assert json.loads(gzip.decompress(packed.data)) == told
    assert packed.headers["ETag"] == mark
    assert "Content-Encoding" not in asks.get("/long", environ_base=away).headers
    assert "Content-Encoding" not in asks.get("/short", headers=packs, environ_base=away).headers
    again = asks.get("/long", headers={"If-None-Match": mark}, environ_base=away)
    assert (again.status_code, again.data) == (304, b"")
    told["names"] = ["sorrel"]
    assert asks.get("/long", headers={"If-None-Match": mark}, environ_base=away).json == told
