"""What the machines of a cluster hand on to one another where they share no file system: files of
the data folder, in an object store (or any other place that fsspec opens), by their names there.

Nothing in a task knows of it. Whatever lies below the root and is named in a task's arguments is
given to the store before the task is sent, and fetched by the worker that runs it, into a folder of
its own; what the task made under such a name, or names in its result, goes the other way. Raw files
lie outside and are seen under the same names by all.
"""

from __future__ import annotations

import contextlib
import io
import os
import pickle
import shutil
import socket
import tempfile
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path, PosixPath
from typing import Any, NamedTuple

from distributed import get_worker
from fsspec.core import url_to_fs

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.reduce.names import fingerprint

VARIABLE = "BEACON_DEPOT"
"""Names the store, as fsspec does: s3://bucket/folder, file:///mnt/share, …"""
WHOLE = "made.json"
"""A folder that has this file is whole, and handed on like one file; it is written last."""
_MOST_KEPT = 64
"""Things that a worker keeps of those that it fetched."""
_FOLDER, _THERE, _OPEN = "folder", "there", "open"
"""To write into; made already; perhaps about to be made."""


class DepotError(BeaconError):
    """The store cannot be opened, or does not answer; says where, why and what to do."""


class Place(NamedTuple):
    """The store that an address names, and what the files of one root are called there."""

    address: str
    name: str


class Depot:
    """The files below a root, here and in the store. Raises DepotError."""

    def __init__(self, place: Place, root: Path) -> None:
        self.place, self.root = place, root
        try:
            self._files, base = url_to_fs(place.address)
        except (ImportError, ValueError, OSError) as error:
            raise DepotError(
                f"{VARIABLE}={place.address} cannot be opened: {error}. Install what fsspec needs "
                "for such an address (for s3:// the package s3fs) on every machine, or correct it."
            ) from error
        self._base = f"{base.rstrip('/')}/{place.name}"
        self._given: set[str] = set()
        self._fetched: deque[Path] = deque()

    def key(self, path: Path | str) -> str | None:
        """The name below the root; None of what lies elsewhere."""
        text = str(path)
        start = f"{self.root}/"
        return text[len(start) :] if text.startswith(start) else None

    def give(self, key: str, *, again: bool = False) -> None:
        """Put a file, or a folder that is whole, into the store, once or ``again``."""
        if key in self._given and not again:
            return
        here = self.root / key
        files = sorted(here.rglob("*"), key=lambda p: p.name == WHOLE) if here.is_dir() else [here]
        with self._answering():
            for file in files:
                if file.is_file():
                    self._put(file)
        self._given.add(key)

    def fetch(self, key: str, *, again: bool = False) -> None:
        """Bring what was given here, unless it is here already, or ``again``."""
        here = self.root / key
        if not again and (here.is_file() or (here / WHOLE).is_file()):
            return
        here.parent.mkdir(parents=True, exist_ok=True)
        with (
            self._answering(),
            tempfile.TemporaryDirectory(prefix=".fetched-", dir=here.parent) as scratch,
        ):
            stored, whole = f"{self._base}/{key}", Path(scratch) / here.name
            if self._files.isfile(stored):
                self._get(stored, whole)
            else:
                for one in self._files.find(stored):
                    self._get(one, whole / one[one.index(stored) + len(stored) + 1 :])
                _remove(here)
            whole.replace(here)
        self._given.add(key)
        if not again:
            self._fetched.append(here)

    def forget_oldest(self) -> None:
        """Keep only the newest of what was fetched."""
        while len(self._fetched) > _MOST_KEPT:
            _remove(self._fetched.popleft())

    def _put(self, file: Path) -> None:
        stored = f"{self._base}/{file.relative_to(self.root)}"
        self._files.makedirs(stored.rpartition("/")[0], exist_ok=True)
        # In a transaction: nobody sees a part of it, whatever becomes of this machine.
        with (
            self._files.transaction,
            file.open("rb") as source,
            self._files.open(stored, "wb") as sink,
        ):
            shutil.copyfileobj(source, sink, 1 << 20)

    def _get(self, stored: str, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        with self._files.open(stored, "rb") as source, path.open("wb") as sink:
            shutil.copyfileobj(source, sink, 1 << 20)

    def sweep(self) -> None:
        """Take out of the store what is no longer here."""
        with self._answering():
            if not self._files.exists(self._base):
                return
            for stored in self._files.find(self._base):
                key = stored[stored.index(self._base) + len(self._base) + 1 :]
                if not (self.root / key).exists():
                    self._files.rm_file(stored)
        self._given = {key for key in self._given if (self.root / key).exists()}

    def clear(self) -> None:
        """Take everything of this root out of the store."""
        with self._answering():
            if self._files.exists(self._base):
                self._files.rm(self._base, recursive=True)
        self._given.clear()

    @contextlib.contextmanager
    def _answering(self) -> Iterator[None]:
        self._files.invalidate_cache()  # others put things there, too
        try:
            yield
        except OSError as error:
            raise DepotError(
                f"{VARIABLE}={self.place.address}: {error}. See that the store is there and may be "
                "written; what was done is kept, start the same again."
            ) from error

    # What is sent.

    def packed(self, told: Any) -> bytes:
        """Anything as bytes, the paths below the root by their names; what they name is given."""
        buffer = io.BytesIO()
        _Packer(buffer, self).dump(told)
        return buffer.getvalue()

    def unpacked(self, content: bytes) -> tuple[Any, list[str]]:
        """What ``packed`` had, with the paths as they are here; what was given is fetched. And the
        names of all.
        """
        reader = _Unpacker(io.BytesIO(content), self)
        return reader.load(), reader.keys

    def sent(self, task: Callable[..., Any], call: tuple[Any, ...]) -> tuple[Any, ...]:
        """A task and its arguments as a function that workers run."""
        return run_packed, self.place, self.packed((task, call))

    def received(self, content: bytes) -> Any:
        """A task's result; what it made is here then."""
        made, result = pickle.loads(content)
        for key in made:
            self.fetch(key, again=True)
        return self.unpacked(result)[0]


class _Packer(pickle.Pickler):
    def __init__(self, file: io.BytesIO, depot: Depot) -> None:
        super().__init__(file, protocol=pickle.HIGHEST_PROTOCOL)
        self._depot = depot

    def persistent_id(self, obj: Any) -> Any:
        kind = type(obj)
        if kind is not str and kind is not PosixPath:
            return None
        key = self._depot.key(obj)
        if key is None:
            return None
        path = self._depot.root / key
        state = _OPEN
        if path.is_file() or (path / WHOLE).is_file():
            self._depot.give(key)
            state = _THERE
        elif path.is_dir():
            state = _FOLDER
        return key, state, kind is str


class _Unpacker(pickle.Unpickler):
    def __init__(self, file: io.BytesIO, depot: Depot) -> None:
        super().__init__(file)
        self._depot = depot
        self.keys: list[str] = []

    def persistent_load(self, pid: Any) -> Any:
        key, state, as_text = pid
        path = self._depot.root / key
        if state == _THERE:
            self._depot.fetch(key)
        elif state == _FOLDER:
            path.mkdir(parents=True, exist_ok=True)
        elif not as_text:  # a text may be words that begin with a path
            path.parent.mkdir(parents=True, exist_ok=True)
        if state != _FOLDER:
            self.keys.append(key)
        return str(path) if as_text else path


_depots: dict[Place, Depot] = {}


def run_packed(place: Place, content: bytes) -> bytes:
    """Run a task on a worker, with a folder of the worker's in place of the root."""
    if place not in _depots:
        root = Path(get_worker().local_directory) / "depot" / place.name
        root.mkdir(parents=True, exist_ok=True)
        _depots[place] = Depot(place, root)
    depot = _depots[place]
    depot.forget_oldest()
    (task, call), keys = depot.unpacked(content)
    before = {key: _stamp(depot.root / key) for key in keys}
    result = task(*call)
    made = [key for key, stamp in before.items() if _stamp(depot.root / key) != stamp]
    for key in made:
        depot.give(key, again=True)
    return pickle.dumps((made, depot.packed(result)))


def _stamp(path: Path) -> tuple[int, int] | None:
    """What tells whether a file, or a whole folder, is another one than before."""
    for one in (path / WHOLE, path):
        if one.is_file():
            known = one.stat()
            return known.st_mtime_ns, known.st_size
    return None


def _remove(path: Path) -> None:
    if path.is_dir():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)


def given_depot(root: Path, environment: Mapping[str, str] = os.environ) -> Depot | None:
    """The depot that the environment names, for the files below a root; None where it names none,
    or no cluster that would need one. Raises DepotError.
    """
    address = environment.get(VARIABLE)
    if not address or not environment.get("BEACON_DASK"):
        return None
    name = f"{socket.gethostname()}-{fingerprint(str(root.resolve()))[:12]}"
    return Depot(Place(address, name), root)
