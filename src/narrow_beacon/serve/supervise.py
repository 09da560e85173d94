"""A part that ends by itself is begun again, with words about it, and not without end."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

from narrow_beacon.core.errors import BeaconError

_MOST = 5
_WITHIN_S = 600.0


@dataclass
class Part:
    """Something that is to run: whether it does, how to begin it again, where its log is."""

    name: str
    runs: Callable[[], bool]
    begin_again: Callable[[], None]
    log: str
    ended: deque[float] = field(default_factory=deque)


class Supervisor:
    """Looks after parts; ``say`` takes what the observer should know."""

    def __init__(
        self, parts: list[Part], say: Callable[[str], None],
        clock: Callable[[], float] = time.monotonic,
    ) -> None:  # fmt: skip
        self._parts, self._say, self._clock = parts, say, clock

    def look(self) -> None:
        """Begin again what has ended.

        Raises BeaconError where a part ended five times in ten minutes, or can't be begun.
        """
        for part in self._parts:
            if part.runs():
                continue
            now = self._clock()
            part.ended.append(now)
            while now - part.ended[0] > _WITHIN_S:
                part.ended.popleft()
            if len(part.ended) >= _MOST:
                raise BeaconError(
                    f"{part.name} ended {_MOST} times within {_WITHIN_S / 60:.0f} minutes; what "
                    f"was done is kept, and jobs go on at the next start. Its log: {part.log}"
                )
            self._say(f"{part.name} ended by itself and is begun again; its log: {part.log}")
            part.begin_again()
            self._say(f"{part.name} runs again; jobs go on where they were")
