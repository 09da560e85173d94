"""What the command line shows: progress bars and the outcome in words."""

from __future__ import annotations

from collections import Counter

from rich.console import Console
from rich.progress import (
    BarColumn,
    MofNCompleteColumn,
    TaskID,
    TextColumn,
    TimeRemainingColumn,
)
from rich.progress import Progress as RichProgress
from rich.text import Text

from narrow_beacon.reduce import Outcome


class Bars:
    """Progress bars, one a stage."""

    def __init__(self) -> None:
        self._bars = RichProgress(
            TextColumn("{task.description:<22}"),
            BarColumn(bar_width=32),
            MofNCompleteColumn(),
            TimeRemainingColumn(elapsed_when_finished=True),
            console=Console(stderr=True),
        )
        self._started = False
        self._task: TaskID | None = None

    def start(self, words: str, total: int, done: int = 0) -> None:
        """Show a new bar, and take the one before as finished."""
        if not self._started:
            self._bars.start()  # only now: worker processes were forked without its thread
            self._started = True
        self._finish()
        self._task = self._bars.add_task(words, total=total or None, completed=done)

    def advance(self, count: int = 1) -> None:
        """Move the current bar."""
        if self._task is not None:
            self._bars.advance(self._task, count)

    def _finish(self) -> None:
        if self._task is not None:
            done = self._bars.tasks[-1].completed
            self._bars.update(self._task, total=done or 1, completed=done or 1)

    def __enter__(self) -> Bars:
        return self

    def __exit__(self, *_: object) -> None:
        self._finish()
        if self._started:
            self._bars.stop()


def print_outcome(outcome: Outcome) -> None:
    """Say what was made, what was set aside and why, and what deserves a look."""
    from narrow_beacon.reduce.report_facts import target_name

    # Names and headers are shown as they are: what looks like markup in them is none.
    console = Console(highlight=False, soft_wrap=True, markup=False, emoji=False)

    def heading(words: str, rest: str) -> None:
        console.print(Text.assemble((words, "bold"), rest))

    names = outcome.stars.names
    for one, curve in ((o, c) for o in outcome.targets for c in o.curves):
        comparison = ", ".join(names[row] for row in curve.cast.comparison)
        check = ", ".join(names[row] for row in curve.cast.checks) or "none"
        heading(f"{target_name(one)} in {curve.filter}", f": {len(curve.indices)} points")
        console.print(f"  comparison {comparison}; check {check}")
        console.print(f"  aperture {curve.choice.reason}")
    if outcome.set_aside:
        heading("Set aside", f": {len(outcome.set_aside)} exposures")
        for index in sorted(outcome.set_aside):
            frame = outcome.night.exposures[index]
            console.print(f"  {frame.name}: {outcome.set_aside[index]}")
    if outcome.night.left_out:
        heading("Left out", f": {len(outcome.night.left_out)} files")
        reasons = Counter(item.reason for item in outcome.night.left_out)
        for item in outcome.night.left_out:
            if reasons[item.reason] <= 3:
                console.print(f"  {item.name}: {item.reason}")
        for reason, count in reasons.items():
            if count > 3:
                console.print(f"  {count} files: {reason}")
    if outcome.remarks:
        heading("Look at", ":")
        for remark in outcome.remarks:
            console.print(f"  {remark}")
            if remark.matters:
                console.print(f"    what it may cost: {remark.matters}")
            if remark.remedy:
                console.print(f"    what can be done: {remark.remedy}")
    if outcome.curves:
        console.print(f"Written to {outcome.plan.output}")
    else:
        console.print(
            f"No curve could be made. The reasons are in {outcome.plan.output}/exposures.csv"
        )
