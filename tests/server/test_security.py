"""Who may come in, by which name, and what may be read: without a server around it."""

from __future__ import annotations

import socket
import stat
from pathlib import Path

import pymysql
import pytest
from apiflask import APIFlask
from flask.testing import FlaskClient
from sqlalchemy import text as sql
from sqlalchemy.exc import DatabaseError

from narrow_beacon.serve.services import host_names
from narrow_beacon.server import problems, security
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.security import Folders, secret_key
from narrow_beacon.server.tokens import make_token, use_token
from running import Running


def visitor(tmp_path: Path, password: str | None = None, **more: str) -> FlaskClient:
    app = APIFlask("door")
    app.secret_key = "made for the test"
    problems.install(app)
    security.install(app, tmp_path / "tokens", set(more.values()), password)

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

    def test_the_key_of_the_cookies_is_for_the_owner_alone(self, tmp_path: Path) -> None:
        path = tmp_path / "secrets" / "key"
        key = secret_key(path)
        assert len(key) >= 32
        assert secret_key(path) == key
        assert stat.S_IMODE(path.stat().st_mode) == 0o600


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
