"""What becomes of a task whose worker is lost or takes too long: its pieces, one by one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

R = TypeVar("R")
LOST = (
    "the process that worked on it ended by itself; a file that needs more memory than there is, "
    "or an error of the program. Set it aside, or copy it from the camera again"
)
TOO_LONG = "it took longer than {:.0f} s; set it aside, or copy it from the camera again"


@dataclass(frozen=True)
class Rescue(Generic[R]):
    """``split`` makes of a call several with a piece each, one of a call that has one piece;
    ``given_up`` is the result of a piece that cannot be worked on, for the reason in words;
    ``joined`` makes one result of those of the pieces. A piece may take ``limit_s``.
    """

    split: Callable[[tuple[Any, ...]], list[tuple[Any, ...]]]
    given_up: Callable[[tuple[Any, ...], str], R]
    joined: Callable[[list[R]], R]
    limit_s: float = 180.0

    def limit_of(self, call: tuple[Any, ...]) -> float:
        """How long a call may take, in s."""
        return self.limit_s * max(1, len(self.split(call)))


class LostError(RuntimeError):
    """A call whose worker was lost, or ended since it took too long; says which in words."""
