"""A MariaDB of our own: data directory, free port on loopback, generated password."""

from __future__ import annotations

import fcntl
import os
import secrets
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

import pymysql

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.processes import end_with_parent
from narrow_beacon.serve.debian import find_program
from narrow_beacon.serve.ports import free_port

_INSTALL_TIMEOUT_S = 600.0
_START_TIMEOUT_S = 300.0
_FREE_TIMEOUT_S = 20.0
_USER = "beacon"
_DATABASE = "narrow_beacon"


class DatabaseStartError(BeaconError):
    """MariaDB could not be started; says what its log says."""


class MariaDb:
    """A running server on a data directory; made at first use. A context manager."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.data = folder / "data"
        self.log = folder / "error.log"
        self.port = 0
        self._process: subprocess.Popen[bytes] | None = None
        # Socket paths may have 107 characters at the most; the data directory may be deeper.
        self._scratch = tempfile.mkdtemp(prefix="beacon-db-")

    @property
    def password(self) -> str:
        """Generated at first use and kept where only the owner reads it."""
        path = self.folder / "password"
        if not path.exists():
            self.folder.mkdir(parents=True, exist_ok=True)
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "w") as file:
                file.write(secrets.token_urlsafe(24))
        return path.read_text().strip()

    @property
    def url(self) -> str:
        """The URL for SQLAlchemy."""
        place = f"127.0.0.1:{self.port}/{_DATABASE}"
        return f"mysql+pymysql://{_USER}:{self.password}@{place}?charset=utf8mb4"

    def start(self, port: int | None = None) -> None:
        """Start it and wait until it answers. Raises DatabaseStartError."""
        if not (self.data / "mysql").is_dir():
            self._install()
        self._wait_until_free()
        self.port = port or free_port()
        init = Path(self._scratch) / "init.sql"
        init.write_text(
            # Whatever accounts the installation made, or an earlier version left: one of root on
            # the owner's own socket, one of the application on its own tables.
            f"DELETE FROM mysql.global_priv WHERE User NOT IN ('mariadb.sys', '{_USER}') "
            "AND NOT (User = 'root' AND Host = 'localhost');\n"
            "FLUSH PRIVILEGES;\n"
            f"CREATE DATABASE IF NOT EXISTS {_DATABASE} CHARACTER SET utf8mb4;\n"
            f"CREATE USER IF NOT EXISTS '{_USER}'@'127.0.0.1';\n"
            f"ALTER USER '{_USER}'@'127.0.0.1' IDENTIFIED BY '{self.password}';\n"
            f"ALTER USER 'root'@'localhost' IDENTIFIED BY '{self.password}';\n"
            f"GRANT ALL ON {_DATABASE}.* TO '{_USER}'@'127.0.0.1';\n"
        )
        init.chmod(0o600)
        self._process = subprocess.Popen(
            [
                _find("mariadbd"), "--no-defaults", f"--datadir={self.data}",
                f"--socket={self._scratch}/db.sock", f"--pid-file={self._scratch}/db.pid",
                "--bind-address=127.0.0.1", f"--port={self.port}", f"--init-file={init}",
                f"--log-error={self.log}", "--skip-name-resolve", "--skip-log-bin",
                f"--secure-file-priv={self._scratch}", "--performance-schema=OFF",
                "--innodb-buffer-pool-size=64M",
                "--innodb-log-file-size=32M", "--max-allowed-packet=64M",
                # Written at every commit, synced every second: only a power cut can cost a second.
                "--innodb-flush-log-at-trx-commit=2", *_as_user(),
            ],
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            env=self._environment(),
            start_new_session=True,  # Ctrl+C ends the server first, then this
            preexec_fn=end_with_parent,
        )  # fmt: skip
        self._wait()

    @property
    def running(self) -> bool:
        """Whether its process lives."""
        return self._process is not None and self._process.poll() is None

    def begin_again(self) -> None:
        """Start it after it ended by itself, at the same port."""
        self.start(self.port)

    def _wait_until_free(self) -> None:
        """A server that was left alone may still be writing down what it holds."""
        table_space = self.data / "ibdata1"
        if not table_space.exists():
            return
        end = time.monotonic() + _FREE_TIMEOUT_S
        with table_space.open("r+b") as file:
            while True:
                try:
                    fcntl.lockf(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    return
                except OSError as error:
                    if time.monotonic() > end:
                        raise DatabaseStartError(
                            f"Another MariaDB server uses {self.data}. End it, or set BEACON_VAR "
                            "to another folder."
                        ) from error
                    time.sleep(0.1)

    def stop(self) -> None:
        """End it in good order."""
        if self._process and self._process.poll() is None:
            self._process.terminate()
            try:
                self._process.wait(30)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait(10)
        self._process = None

    def close(self) -> None:
        """End it and leave nothing behind but the data."""
        self.stop()
        shutil.rmtree(self._scratch, ignore_errors=True)

    def __enter__(self) -> MariaDb:
        self.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _install(self) -> None:
        # Made where the path is plain, for its own script does not quote it; then moved.
        made = Path(self._scratch) / "data"
        shutil.rmtree(made, ignore_errors=True)
        made.mkdir()
        done = subprocess.run(
            [
                _find("mariadb-install-db"), "--no-defaults", f"--datadir={made}",
                "--auth-root-authentication-method=normal", "--skip-test-db", *_as_user(),
            ],
            capture_output=True, text=True, timeout=_INSTALL_TIMEOUT_S, env=self._environment(),
        )  # fmt: skip
        if done.returncode:
            shutil.rmtree(made, ignore_errors=True)
            raise DatabaseStartError(
                f"MariaDB could not make its data directory {self.data}: "
                f"{(done.stderr or done.stdout).strip()[-400:]}"
            )
        self.folder.mkdir(parents=True, exist_ok=True)
        half = self.folder / "data.new"
        shutil.rmtree(half, ignore_errors=True)
        shutil.move(made, half)
        shutil.rmtree(self.data, ignore_errors=True)
        half.rename(self.data)  # never half of it

    def _environment(self) -> dict[str, str]:
        """A place for temporary tables that is its own: a server that starts clears away what lies
        in it, and would take the tables of another one that runs out of its hands.
        """
        own = Path(self._scratch) / "tables"
        own.mkdir(exist_ok=True)
        return {**os.environ, "TMPDIR": str(own)}

    def _wait(self) -> None:
        end = time.monotonic() + _START_TIMEOUT_S
        while True:
            assert self._process is not None
            if self._process.poll() is not None or time.monotonic() > end:
                lines = (
                    self.log.read_text(errors="replace").splitlines() if self.log.exists() else []
                )
                self.stop()
                said = " / ".join(line for line in lines[-40:] if "ERROR" in line)[-600:]
                raise DatabaseStartError(
                    f"MariaDB did not start. Its log {self.log} says: {said or 'nothing'}"
                )
            try:
                pymysql.connect(
                    host="127.0.0.1", port=self.port, user=_USER, password=self.password,
                    database=_DATABASE, connect_timeout=2,
                ).close()  # fmt: skip
                return
            except pymysql.Error:
                time.sleep(0.05)


def _as_user() -> list[str]:
    return ["--user=root"] if os.geteuid() == 0 else []


def _find(name: str) -> str:
    found = find_program(name)
    if not found:
        raise DatabaseStartError(
            f"{name} is missing; run: sudo apt-get install -y mariadb-server-core"
        )
    return found
