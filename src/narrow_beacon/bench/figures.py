"""Measured figures beside what no program could beat and their aims: as a table and JSON."""

from __future__ import annotations

from dataclasses import asdict, dataclass


@dataclass(frozen=True)
class Figure:
    """One figure of a benchmark: ``floor`` is what no program could beat, ``aim`` what it should
    stay below (or above, where ``least``); each in ``unit``, None where there is none.
    """

    bench: str
    name: str
    value: float
    unit: str
    floor: float | None = None
    aim: float | None = None
    least: bool = False

    @property
    def met(self) -> bool | None:
        """Whether the aim was met; None without one."""
        if self.aim is None:
            return None
        return bool(self.value >= self.aim if self.least else self.value <= self.aim)


class Figures:
    """Those of one run, printed as they come."""

    def __init__(self) -> None:
        self.all: list[Figure] = []

    def add(self, figure: Figure) -> None:
        """Keep a figure and print its line."""
        self.all.append(figure)
        times = f"{figure.value / figure.floor:7.2f} × floor" if figure.floor else " " * 15
        aim = ""
        if figure.aim is not None:
            sign = "at least" if figure.least else "at most"
            verdict = "" if figure.met else "  MISSED"
            aim = f"  (aim {sign} {figure.aim:g}){verdict}"
        print(f"  {figure.name:<46} {figure.value:10.2f} {figure.unit:<6} {times}{aim}", flush=True)

    def met(self, bench: str) -> bool:
        """Whether every aim of a benchmark was met."""
        return all(one.met is not False for one in self.all if one.bench == bench)

    def as_json(self) -> list[dict[str, object]]:
        """All of them as plain values."""
        return [{**asdict(one), "met": one.met} for one in self.all]


FIGURES = Figures()
"""Of this run of ``./beacon bench``."""
