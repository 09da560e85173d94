"""One running application on a folder, and nothing that outlives it."""

from __future__ import annotations

import fcntl
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from narrow_beacon.core.errors import BeaconError


class RunsAlreadyError(BeaconError):
    """Another process runs the application on this folder; ``url`` is empty while it starts."""

    def __init__(self, url: str) -> None:
        super().__init__("Narrow Beacon runs already.")
        self.url = url


@contextmanager
def alone(var: Path) -> Iterator[Callable[[str], None]]:
    """Hold the folder; what is given takes the address at which the application answers.

    The lock ends with the process, whatever ends it. Raises RunsAlreadyError.
    """
    var.mkdir(parents=True, exist_ok=True)
    with (var / "running").open("a+") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            file.seek(0)
            raise RunsAlreadyError(file.read().strip()) from error
        file.truncate(0)

        def tell(url: str) -> None:
            file.write(url)
            file.flush()

        yield tell
        file.truncate(0)
