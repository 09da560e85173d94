"""One thread that works through the jobs in the records, one after the other.

The records are the queue: a job that was running when the server went down is the first to go on
when it comes up again. While the database is away the runner waits for it and then goes on.
"""

from __future__ import annotations

import logging
import threading
import traceback
from collections.abc import Callable, Sequence
from pathlib import Path

from distributed import Client
from sqlalchemy import select
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError

from narrow_beacon.core.disk import disk_words
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.gate import OPEN, Gate
from narrow_beacon.core.words import counted
from narrow_beacon.jobs.cluster import CancelledError, ClusterPool
from narrow_beacon.jobs.combined import campaign_of_combined
from narrow_beacon.jobs.depot import Depot, DepotError
from narrow_beacon.jobs.folder_watch import LIVE, FolderWatch
from narrow_beacon.jobs.keeper import RecordKeeper
from narrow_beacon.jobs.progress import Events, Progress, Reporter
from narrow_beacon.jobs.proposals import propose_by_looks
from narrow_beacon.jobs.watch import DatabaseWatch
from narrow_beacon.jobs.work import NotReadyError, Work
from narrow_beacon.reduce.combining import combine_walk
from narrow_beacon.reduce.corrected import corrected_files
from narrow_beacon.reduce.names import fingerprint
from narrow_beacon.reduce.walk import Walk
from narrow_beacon.store.campaigns import now, queue_job
from narrow_beacon.store.database import Store, is_busy
from narrow_beacon.store.models import Campaign, Job, NightFile

log = logging.getLogger(__name__)

_WAIT_FOR_DATABASE_S = 1.0
_LOOK_AGAIN_S = 5.0
_MOST_FAILURES = 200
_FOLDER_PATIENCE_S = 10.0
LOOK = "look"
_LOOKS_TOO = ("place", "census", "reduce", LIVE)


def _sort(walk: Walk, work: Work) -> None:
    walk.read()
    if walk.sorted.night.exposures:
        # What they look like is known as soon as they are sorted.
        with work.store.session() as session:
            queue_job(session, work.campaign(session), LOOK)


def _look(walk: Walk, work: Work) -> None:
    if not _goes_on(work):
        walk.look()


def _goes_on(work: Work) -> bool:
    """Whether more is asked for already, which looks at the exposures too."""
    with work.store.session() as session:
        waiting = select(Job.id).where(
            Job.campaign_id == work.campaign_id, Job.state == "waiting", Job.kind.in_(_LOOKS_TOO)
        )
        return session.scalars(waiting).first() is not None


def _masters(walk: Walk, _: Work) -> None:
    walk.to("chains")


def _place(walk: Walk, work: Work) -> None:
    walk.place()
    with work.store.session() as session:
        propose_by_looks(session, work.campaign(session))


def _census(walk: Walk, _: Work) -> None:
    walk.census()
    walk.settle(accept=False)


def _settle(walk: Walk, _: Work) -> None:
    walk.settle(accept=True)


def _reduce(walk: Walk, _: Work) -> None:
    walk.read()
    walk.census()
    walk.settle(accept=True)


def _export(walk: Walk, work: Work) -> str:
    """The exposures as corrected files; where they are."""
    folder = work.folder("exports", "corrected")
    written = corrected_files(walk, folder, float(work.wish.get("pedestal_adu", 0.0)))
    for one in written:
        if one.written is None:
            work.reporter.fail(f"{one.file}: {one.steps[0]}")
    done = sum(one.written is not None for one in written)
    return f"{counted(done, 'corrected exposure')} below {folder}"


def _combine(walk: Walk, work: Work) -> str:
    """Runs of exposures combined, as a campaign of their own; where they are."""
    wish = dict(work.wish)
    every, minutes, method = wish["every"], wish["minutes"], wish["method"]
    each = f"{every} exposures" if every else f"{minutes:g} min"
    # Beside the campaigns: it outlives the one that it comes from.
    own = f"campaign-{work.campaign_id}-{each.replace(' ', '-')}-{method}"
    only = _names_of(work, wish.get("ids") or [])
    if only:
        own += f"-{fingerprint(sorted(only))[:8]}"
    folder = work.store.folder("combined", own)
    for old in folder.glob("*.fits"):
        old.unlink()
    walk.census()
    ready, keeper = walk.probed, walk.keeper
    made, left = combine_walk(
        walk,
        folder,
        keeper.measured(ready),
        keeper.set_aside(ready),
        every=every,
        minutes=minutes,
        method=method,
        only=only,
    )
    for words in left:
        work.reporter.fail(words)
    if not made:
        raise NotReadyError("There is nothing to combine: no exposure is placed and taking part.")
    name = campaign_of_combined(work, folder, each)
    return f"{counted(len(made), 'combined exposure')} make the campaign {name}"


def _names_of(work: Work, ids: Sequence[int]) -> set[str]:
    with work.store.session() as session:
        own = select(NightFile.name).where(
            NightFile.campaign_id == work.campaign_id, NightFile.id.in_(ids)
        )
        return set(session.scalars(own))


def _live(walk: Walk, _: Work) -> None:
    walk.live = True
    walk.read()
    if not walk.sorted.night.exposures:
        return
    if walk.plan.has_stars:
        walk.census()
        walk.settle(accept=False)
    else:
        walk.look()


KINDS: dict[str, Callable[[Walk, Work], str | None]] = {
    "sort": _sort,
    LOOK: _look,
    "masters": _masters,
    "place": _place,
    "census": _census,
    "settle": _settle,
    "reduce": _reduce,
    "export": _export,
    "combine": _combine,
    LIVE: _live,
}


class Runner:
    """Works through the jobs until it is stopped."""

    def __init__(
        self,
        store: Store,
        client: Client,
        events: Events,
        log_file: str = "the server's log",
        gate: Gate = OPEN,
        depot: Depot | None = None,
    ) -> None:
        self._depot = depot
        self._gate = gate
        self._log = log_file
        self._watch = DatabaseWatch(store, events)
        self._folders = FolderWatch(
            Store(store.url, store.data, patience_s=_FOLDER_PATIENCE_S), gate, self.wake
        )
        self._store = store
        self._client = client
        self._events = events
        self._wake = threading.Event()
        self._stopped = threading.Event()
        self._cancel: set[int] = set()
        self._now: Progress | None = None
        self._thread = threading.Thread(target=self._loop, name="jobs", daemon=True)

    @property
    def progress(self) -> Progress | None:
        """The job that is running, as far as it is."""
        return self._now

    @property
    def records_away(self) -> bool:
        """Whether the records did not answer when they were asked last."""
        return self._watch.away

    def start(self) -> None:
        """Begin."""
        self._thread.start()
        self._watch.start()
        self._folders.start()

    def leave(self) -> None:
        """The process ends: whatever the job meets from now on is no failure of its own."""
        self._stopped.set()

    def stop(self) -> None:
        """Stop; the job that is running goes on at the next start."""
        self._stopped.set()
        self._watch.stop()
        self._folders.stop()
        self._wake.set()
        self._thread.join(20)

    def wake(self) -> None:
        """There is a new job."""
        self._wake.set()

    def cancel(self, job: int) -> None:
        """Stop a job for good."""
        self._cancel.add(job)
        self._wake.set()

    def _loop(self) -> None:
        while not self._stopped.is_set():
            try:
                job = self._next()
                self._watch.notice(away=False)
                if job is None:
                    self._wake.wait(_LOOK_AGAIN_S)
                    self._wake.clear()
                    continue
                self._run(job)
            except (OperationalError, InterfaceError) as error:
                if is_busy(error):  # the observer was quicker: the job goes on where it was
                    log.info("the records were busy: %s", str(error).splitlines()[0])
                    continue
                self._watch.notice(away=True, why=str(error).splitlines()[0])
                self._stopped.wait(_WAIT_FOR_DATABASE_S)

    def _next(self) -> Job | None:
        with self._store.session() as session:
            return session.scalars(
                select(Job)
                .where(Job.state.in_(("running", "waiting")))
                .order_by(Job.state, Job.id)  # "running" comes before "waiting"
            ).first()

    def _run(self, job: Job) -> None:
        self._set(job.id, state="running", started=job.started or now())
        progress = Progress(job.id, job.campaign_id, job.kind)
        self._now = progress
        reporter = Reporter(self._events, progress)

        def cancelled() -> bool:
            return job.id in self._cancel or self._stopped.is_set()

        pool = ClusterPool(self._client, cancelled, self._depot)

        def holds(path: Path) -> bool:
            return self._folders.holds(job.campaign_id, path)

        work = Work(
            self._store, pool, job.campaign_id, reporter, cancelled, self._gate, holds,
            job.wish or {},
        )  # fmt: skip
        try:
            words = KINDS[job.kind](Walk(RecordKeeper(work), pool, reporter), work)
        except CancelledError:
            if self._stopped.is_set():
                return  # goes on at the next start
            self._finish(job, progress, "cancelled", "stopped; what was done is kept")
        except BeaconError as error:
            self._finish(job, progress, "failed", str(error))
        except (OperationalError, InterfaceError):
            raise
        except OSError as error:
            if self._stopped.is_set():
                return
            log.exception("job %d failed", job.id)
            self._finish(job, progress, "failed", disk_words(error), traceback.format_exc())
        except Exception as error:
            if self._stopped.is_set():
                return  # the cluster was closed under it; goes on at the next start
            log.exception("job %d failed", job.id)
            # Never what was asked of the database: that is for the log.
            plain = error.orig if isinstance(error, DBAPIError) else error
            words = (
                f"An error of the program while {progress.words} "
                f"({progress.done} of {progress.total}): {type(error).__name__}: {plain}. What was "
                f"done before holds, and the same job goes on from there. The log: {self._log}"
            )
            self._finish(job, progress, "failed", words, traceback.format_exc())
        else:
            self._finish(job, progress, "done", words or "")
        finally:
            self._now = None
            if self._depot is not None:
                self._sweep(self._depot)

    def _sweep(self, depot: Depot) -> None:
        try:
            depot.sweep()
        except DepotError as error:
            log.warning("%s", error)  # it stays there until the next job

    def _finish(
        self, job: Job, progress: Progress, state: str, words: str, trace: str = ""
    ) -> None:
        self._now = None  # before anyone can read in the records that it is finished
        with self._store.session() as session:
            # In one: whoever sees that it is finished sees the campaign's new revision too.
            session.get_one(Campaign, job.campaign_id).revision += 1
            record = session.get_one(Job, job.id)
            record.state, record.words, record.finished = state, words, now()
            record.done, record.total, record.log = progress.done, progress.total, trace
            record.failures = progress.failures[:_MOST_FAILURES]
        self._events.publish(
            "job", job=job.id, campaign=job.campaign_id, job_kind=job.kind, state=state, words=words
        )
        self._events.publish("changed", campaign=job.campaign_id)

    def _set(self, job: int, **values: object) -> None:
        with self._store.session() as session:
            record = session.get_one(Job, job)
            for name, value in values.items():
                setattr(record, name, value)
