"""Connect to the records, bring their tables up to date, and hand out sessions."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine
from sqlalchemy.orm import Session, sessionmaker

# From 11.6.2 on MariaDB refuses to write a row that another has written since this session
# first read anything (error 1020). A job notes its progress while the observer decides, so that
# is daily business here; all releases are to behave as those before.
_SETTINGS = "SET autocommit = 0 /*M!110602 , innodb_snapshot_isolation = OFF */"


class Store:
    """The records at a database URL, and the data folder that goes with them."""

    def __init__(self, url: str, data: Path) -> None:
        self.url = url
        self.data = data
        # No answer within these: the records are away, and whoever asked hears it.
        limits = {"connect_timeout": 5, "read_timeout": 120, "write_timeout": 120}
        settings = {"init_command": _SETTINGS, **limits}
        self.engine = create_engine(
            url, pool_pre_ping=True, pool_recycle=3600, pool_size=8, max_overflow=16,
            connect_args=settings if url.startswith("mysql") else {},
        )  # fmt: skip
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A session that commits at its end, or rolls back where something was raised."""
        with self._sessions() as session:
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
