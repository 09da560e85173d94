"""What the command line shows: progress bars, or lines where no one watches, and the outcome in
words.
"""

from __future__ import annotations

import sys
import time
from collections import Counter
from typing import TYPE_CHECKING

import click

from narrow_beacon.reduce import Outcome

if TYPE_CHECKING:
    from rich.progress import Progress as RichProgress


class Bars:
    """A progress bar for each stage; where standard error is no terminal a line for each, once it
    is done.
    """

    def __init__(self) -> None:
        self._bars: RichProgress | None = None
        self._words, self._total, self._done, self._begin = "", 0, 0, 0.0

    def start(self, words: str, total: int, done: int = 0) -> None:
        """Show a new stage, and take the one before as finished."""
        if self._bars is None and sys.stderr.isatty():
            self._bars = _drawn_bars()
            self._bars.start()  # only now: worker processes were forked without its thread
        self._finish()
        self._words, self._total, self._done = words, total, done
        self._begin = time.monotonic()
        if self._bars is not None:
            self._bars.add_task(words, total=total or None, completed=done)

    def advance(self, count: int = 1) -> None:
        """Move the current bar."""
        self._done += count
        if self._bars is not None:
            self._bars.advance(self._bars.tasks[-1].id, count)

    def _finish(self) -> None:
        if self._bars is not None and self._bars.tasks:
            done = self._done or 1
            self._bars.update(self._bars.tasks[-1].id, total=done, completed=done)
        elif self._words:
            seconds = round(time.monotonic() - self._begin)
            took = f"{seconds // 3600}:{seconds // 60 % 60:02}:{seconds % 60:02}"
            whole = max(self._total, self._done) or 1
            of = f"{self._done if self._total else whole}/{whole}"
            click.echo(f"{self._words:<30} {of:>13} {took}", err=True)

    def __enter__(self) -> Bars:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is None:
            self._finish()
        if self._bars is not None:
            self._bars.stop()


def _drawn_bars() -> RichProgress:
    from rich.console import Console
    from rich.progress import (
        BarColumn,
        MofNCompleteColumn,
        Progress,
        TextColumn,
        TimeRemainingColumn,
    )

    return Progress(
        TextColumn("{task.description:<22}"),
        BarColumn(bar_width=32),
        MofNCompleteColumn(),
        TimeRemainingColumn(elapsed_when_finished=True),
        console=Console(stderr=True),
    )


def print_outcome(outcome: Outcome) -> None:
    """Say what was made, what was set aside and why, and what deserves a look."""
    from narrow_beacon.reduce.report_facts import target_name

    def heading(words: str, rest: str) -> None:
        click.echo(click.style(words, bold=True) + rest)

    names = outcome.stars.names
    for one, curve in ((o, c) for o in outcome.targets for c in o.curves):
        comparison = ", ".join(names[row] for row in curve.cast.comparison)
        check = ", ".join(names[row] for row in curve.cast.checks) or "none"
        heading(f"{target_name(one)} in {curve.filter}", f": {len(curve.indices)} points")
        click.echo(f"  comparison {comparison}; check {check}")
        click.echo(f"  aperture {curve.choice.reason}")
    if outcome.set_aside:
        heading("Set aside", f": {len(outcome.set_aside)} exposures")
        for index in sorted(outcome.set_aside):
            frame = outcome.night.exposures[index]
            click.echo(f"  {frame.name}: {outcome.set_aside[index]}")
    if outcome.night.left_out:
        heading("Left out", f": {len(outcome.night.left_out)} files")
        reasons = Counter(item.reason for item in outcome.night.left_out)
        for item in outcome.night.left_out:
            if reasons[item.reason] <= 3:
                click.echo(f"  {item.name}: {item.reason}")
        for reason, count in reasons.items():
            if count > 3:
                click.echo(f"  {count} files: {reason}")
    if outcome.remarks:
        heading("Look at", ":")
        for remark in outcome.remarks:
            click.echo(f"  {remark}")
            if remark.matters:
                click.echo(f"    what it may cost: {remark.matters}")
            if remark.remedy:
                click.echo(f"    what can be done: {remark.remedy}")
    if outcome.curves:
        click.echo(f"Written to {outcome.plan.output}")
    else:
        click.echo(
            f"No curve could be made. The reasons are in {outcome.plan.output}/exposures.csv"
        )
