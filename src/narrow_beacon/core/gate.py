"""The one gate for paths: which files may be read, with all links resolved."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from narrow_beacon.core.errors import BeaconError


class OutsideError(BeaconError):
    """A path leads out of the folders that may be read; says which, and what to do."""


@dataclass(frozen=True)
class Gate:
    """Lets paths through that lie below ``roots`` once their links are resolved; without roots
    all, for whoever works with the rights of the user at the keyboard.
    """

    roots: tuple[Path, ...] | None = None

    @classmethod
    def below(cls, folders: Iterable[Path]) -> Gate:
        """A gate to some folders."""
        return cls(tuple(folder.expanduser().resolve() for folder in folders))

    def allows(self, path: Path) -> bool:
        """Whether a path may be read. What cannot be resolved may not."""
        if self.roots is None:
            return True
        try:
            whole = path.resolve()
        except (OSError, RuntimeError, ValueError):
            return False
        return any(whole == root or root in whole.parents for root in self.roots)

    def check(self, path: Path) -> Path:
        """The path, links resolved. Raises OutsideError."""
        if self.roots is None:
            return path
        if not self.allows(path):
            roots = ", ".join(str(root) for root in self.roots)
            raise OutsideError(
                f"{path} is outside of the folders that may be read: {roots}. "
                "Start with --allow FOLDER to add one."
            )
        return path.resolve()


OPEN = Gate()
"""Lets everything through."""
