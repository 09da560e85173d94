"""Reduce a plan from its files to its output folder, with everything kept in memory on the way."""

from __future__ import annotations

import tempfile
from contextlib import nullcontext
from dataclasses import replace
from pathlib import Path
from threading import Thread

from narrow_beacon.core.curve.time import exposure_times
from narrow_beacon.core.remarks import Remark, distinct
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.field import field_of
from narrow_beacon.reduce.keeper import Keeper
from narrow_beacon.reduce.outcome import Outcome
from narrow_beacon.reduce.outputs import write_outputs
from narrow_beacon.reduce.progress import Progress
from narrow_beacon.reduce.settle import ready_for
from narrow_beacon.reduce.walk import Walk, worker_count
from narrow_beacon.reduce.workers import Pool, Workers
from narrow_beacon.warm import warm_curve

_FEW = 20


def reduce_plan(
    plan: Plan, workers: int | None = None, progress: Progress | None = None,
    elsewhere: Pool | None = None,
) -> Outcome:  # fmt: skip
    """Reduce a night and write its output folder; by processes of this machine, or ``elsewhere``,
    where the raw files and the output folder are seen under the same names.

    Raises PlanError where the plan proves unusable on the way (a cone search that fails).
    """
    masters = plan.output / "masters"
    masters.mkdir(parents=True, exist_ok=True)
    shared = None if elsewhere is None else plan.output  # what tasks read, all have to see
    with (
        nullcontext(elsewhere) if elsewhere else Workers(workers or worker_count(plan)) as pool,
        tempfile.TemporaryDirectory(prefix="narrow-beacon-", dir=shared) as scratch,
    ):
        for old in masters.glob("*.fits"):
            old.unlink()
        keeper = Keeper(plan, masters, Path(scratch))
        walk = Walk(keeper, pool, progress)
        walk.read()
        outcome = _measured(walk) if walk.sorted.night.exposures else _nothing(walk)
        write_outputs(outcome, pool, keeper.let_go)
        if outcome.plan.sheet and outcome.measured:
            from narrow_beacon.reduce.night_sheet import FORMATS, write_sheet  # slow to load

            for kind in FORMATS:
                write_sheet(outcome, outcome.plan.output / f"night_sheet.{kind}")
        return outcome


def _measured(walk: Walk) -> Outcome:
    if len(walk.probed.jobs) > _FEW:
        # Others measure for a while: what comes after it can be loaded meanwhile.
        Thread(target=warm_curve, daemon=True).start()
    walk.census()
    settled = walk.settle(accept=True)
    keeper, ready = walk.keeper, walk.probed
    without = {
        index: ready.bands.without[frame.filter or ""]
        for index, frame in enumerate(ready.exposures)
        if (frame.filter or "") in ready.bands.without
    }
    failed = {r.index: r.reason for r in keeper.results.values() if r.reason}
    aside = {**settled.without, **settled.set_aside, **without, **failed}
    if settled.cast is None and ready.field.target is None:
        aside |= {
            index: "the target is not known, so that there is no curve"
            for index in keeper.results
            if index not in aside
        }
    outcome = Outcome(
        walk.plan, ready.field.stars, ready.field.target, ready.night, tuple(walk.masters),
        ready.chains, ready.times, keeper.results, settled.curves, aside, _remarks(keeper),
        ready.constants,
    )  # fmt: skip
    beside = []
    for (wish, row), one in zip(ready.field.beside, settled.beside, strict=False):
        own = ready_for(ready, wish, row)
        beside.append(
            replace(
                outcome, plan=walk.plan.of_target(wish), target=row, times=own.times,
                curves=one.curves,
            )
        )  # fmt: skip
    return replace(outcome, beside=tuple(beside))


def _nothing(walk: Walk) -> Outcome:
    """Files without an exposure: masters are made, and all are accounted for."""
    field = field_of(walk.plan, ())
    masters = tuple(walk.masters)
    times = exposure_times([], 0.0, 0.0, None)
    remark = Remark(
        "intake", "there are no exposures of the sky", matters="nothing to measure",
        remedy="point to the folder of the exposures, or say what kind these files are",
    )  # fmt: skip
    return Outcome(
        walk.plan, field.stars, field.target, walk.sorted.night, masters, {}, times, {}, (), {},
        (*_remarks(walk.keeper), *field.remarks, remark), {},
    )  # fmt: skip


def _remarks(keeper: Keeper) -> tuple[Remark, ...]:
    return distinct(remark for remarks in keeper.remarks.values() for remark in remarks)
