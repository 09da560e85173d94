"""Connect to the records, bring their tables up to date, and hand out sessions."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from alembic import command
from alembic.config import Config
from pydantic_core import from_json
from sqlalchemy import create_engine
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session, sessionmaker

# From 11.6.2 on MariaDB refuses to write a row that another has written since this session
# first read anything (error 1020). A job notes its progress while the observer decides, so that
# is daily business here; all releases are to behave as those before.
_SETTINGS = (
    "SET autocommit = 0, innodb_lock_wait_timeout = {:.0f} "
    "/*M!110602 , innodb_snapshot_isolation = OFF */"
)
_LOCK_SHARE = 3.0
"""Who waits for another's change hears of it well before the records would count as away."""


# MariaDB: the row has changed since it was read, the wait for it was too long, a deadlock.
_BUSY = {(1020,), (1205,), (1213,)}


def is_busy(error: DBAPIError) -> bool:
    """Whether another transaction held what this one wanted: it can be done once more."""
    return error.orig is not None and error.orig.args[:1] in _BUSY


class RecordsAwayError(Exception):
    """The database is known to be away, or too slow to wait for."""


class Store:
    """The records at a database URL, and the data folder that goes with them; ``patience_s``: how
    long any one question to them may take.
    """

    def __init__(self, url: str, data: Path, patience_s: float = 120.0) -> None:
        self.url = url
        self.data = data
        self.away: Callable[[], bool] = lambda: False
        """Whether the records are known not to answer: then nobody waits for them in vain."""
        # No answer within these: the records are away, and whoever asked hears it.
        limits = {
            "connect_timeout": 5, "read_timeout": patience_s, "write_timeout": patience_s,
        }  # fmt: skip
        settings = {"init_command": _SETTINGS.format(patience_s / _LOCK_SHARE), **limits}
        self.engine = create_engine(
            url, pool_pre_ping=True, pool_recycle=3600, pool_size=8, max_overflow=40,
            json_deserializer=from_json,  # several times as fast as the standard library's
            connect_args=settings if url.startswith("mysql") else {},
        )  # fmt: skip
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A session that commits at its end, or rolls back where something was raised.

        Raises RecordsAwayError.
        """
        if self.away():
            raise RecordsAwayError("the records do not answer")
        with self._sessions() as session:
            session.info["data"] = str(self.data)
            try:
                yield session
                session.commit()
            except BaseException:
                session.rollback()
                raise

    def migrate(self) -> None:
        """Bring the tables up to date."""
        command.upgrade(migrations(self.url), "head")

    def folder(self, *parts: str | int) -> Path:
        """A folder below the data folder, made where it is missing."""
        path = self.data.joinpath(*(str(part) for part in parts))
        path.mkdir(parents=True, exist_ok=True)
        return path


def migrations(url: str) -> Config:
    """Alembic's configuration for a database URL."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["url"] = url
    return config
