"""Tests see the builders beside them; the application is started once for those that need it."""

import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

settings.register_profile("patient", deadline=None)  # a busy machine is no error
settings.load_profile("patient")

sys.path.insert(0, str(Path(__file__).parent))


@pytest.fixture(scope="session")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[object]:
    """The application in full."""
    from running import Running

    application = Running(tmp_path_factory.mktemp("application"))
    yield application
    application.close()


@pytest.fixture(scope="session")
def night(running: object) -> tuple[Path, dict]:  # type: ignore[type-arg]
    """A small night below the folders that may be read, and its truth."""
    from running import small_night

    folder = running.nights / "foxglove"  # type: ignore[attr-defined]
    return folder, small_night(folder)


@pytest.fixture(scope="session")
def campaign(running: object, night: tuple[Path, dict]) -> int:  # type: ignore[type-arg]
    """The small night as a campaign, reduced."""
    return running.client().reduced(night[0])  # type: ignore[attr-defined]
