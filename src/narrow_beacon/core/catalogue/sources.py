"""Which catalogues a field's stars come from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path


@dataclass(frozen=True)
class Source:
    """A catalogue: an atlas's folder, a file, or the address of a service."""

    kind: str
    """"atlas", "file" or "service"."""
    place: str
    name: str = ""
    epoch_yr: float | None = None
    columns: Mapping[str, str] = field(default_factory=dict)

    @property
    def words(self) -> str:
        """What it is called."""
        return self.name or (self.place if self.kind == "service" else Path(self.place).name)


@dataclass(frozen=True)
class Sources:
    """Catalogues of stars in the order in which they are tried, or to be brought together; tables
    of variable stars; and the folder where what services send is kept.
    """

    stars: tuple[Source, ...] = ()
    merge: bool = False
    variables: tuple[Source, ...] = ()
    cache: Path | None = None


NO_SOURCES = Sources()
