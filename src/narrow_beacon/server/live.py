"""What goes on now: server-sent events, jobs, undo, the log."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint
from flask import Response
from sqlalchemy import select

from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.live import JobList, JobOut, LogList, LogOut, Meant, NewJob
from narrow_beacon.server.state import campaign_of, changing, shared
from narrow_beacon.store.actions import redo, undo
from narrow_beacon.store.campaigns import now, queue_job
from narrow_beacon.store.models import Job, LogEntry

blueprint = APIBlueprint("live", __name__)
_SHOWN = 200


@blueprint.get("/api/events")
@blueprint.doc(hide=True)
def events() -> Response:
    """That whoever asks may listen; the events themselves come from the server's loop."""
    return Response(status=204)


@blueprint.post("/api/campaigns/<int:number>/jobs")
@blueprint.input(NewJob, arg_name="body")
@blueprint.output(JobOut)
def start_job(number: int, body: NewJob) -> JobOut:
    """Begin long work; one that waits already is not begun twice."""
    state = shared()
    wish: dict[str, Any] | None = None
    if body.kind == "export":
        wish = {"pedestal_adu": body.pedestal_adu}
    elif body.kind == "combine":
        if (body.every is None) == (body.minutes is None):
            raise Problem(
                422, "How many?", "Give how many exposures make one, or how many minutes."
            )
        wish = {
            "every": body.every, "minutes": body.minutes, "method": body.method, "ids": body.ids,
        }  # fmt: skip
    with state.store.session() as session:
        result = _job(queue_job(session, campaign_of(session, number), body.kind, wish))
    state.events.publish("job", job=result.id, campaign=number, job_kind=body.kind, state="waiting")
    state.runner.wake()
    return result


@blueprint.delete("/api/jobs/<int:number>")
@blueprint.output(Done)
def cancel_job(number: int) -> Done:
    """Stop a job; what it did is kept."""
    state = shared()
    with state.store.session() as session:
        job = session.get(Job, number)
        if job is None:
            raise Problem(404, "No such job")
        if job.state == "waiting":
            job.state, job.finished = "cancelled", now()
    state.runner.cancel(number)  # it may have begun in this very moment
    return Done(words="stopping")


@blueprint.get("/api/campaigns/<int:number>/jobs")
@blueprint.output(JobList)
def jobs(number: int) -> JobList:
    """The latest jobs, newest first."""
    with shared().store.session() as session:
        campaign_of(session, number)
        found = session.scalars(
            select(Job).where(Job.campaign_id == number).order_by(Job.id.desc()).limit(20)
        )
        return JobList(jobs=[_job(job) for job in found])


def _job(job: Job) -> JobOut:
    return JobOut(
        id=job.id, kind=job.kind, state=job.state or "waiting", words=job.words or "",
        done=job.done or 0, total=job.total or 0, failures=job.failures, log=job.log or "",
        created=job.created, finished=job.finished,
    )  # fmt: skip


@blueprint.post("/api/campaigns/<int:number>/undo")
@blueprint.input(Meant, location="query", arg_name="query")
@blueprint.output(Done)
def undo_last(number: int, query: Meant) -> Done:
    """Take back the page's latest action."""
    with changing(number) as (session, campaign):
        entry = undo(session, campaign, query.entry)
        return Done(words=f"Undone: {entry.words}" if entry else "Nothing to undo.")


@blueprint.post("/api/campaigns/<int:number>/redo")
@blueprint.input(Meant, location="query", arg_name="query")
@blueprint.output(Done)
def redo_last(number: int, query: Meant) -> Done:
    """Do again what was undone last."""
    with changing(number) as (session, campaign):
        entry = redo(session, campaign, query.entry)
        return Done(words=f"Done again: {entry.words}" if entry else "Nothing to do again.")


@blueprint.get("/api/campaigns/<int:number>/log")
@blueprint.output(LogList)
def actions(number: int) -> LogList:
    """Who changed what and when, newest first."""
    with shared().store.session() as session:
        found = session.scalars(
            select(LogEntry)
            .where(LogEntry.campaign_id == number)
            .order_by(LogEntry.id.desc())
            .limit(_SHOWN)
        )
        return LogList(
            entries=[
                LogOut(id=e.id, at=e.at, who=e.who, words=e.words, undone=e.undone) for e in found
            ]
        )
