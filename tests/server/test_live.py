"""What goes on by itself: events, the queue of jobs, progress, and the log of actions."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import SimpleQueue
from typing import Any

import pytest
import requests
from distributed import Client as DaskClient
from sqlalchemy import select

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.jobs import runner as runner_module
from narrow_beacon.jobs.progress import Events
from narrow_beacon.jobs.runner import Runner
from narrow_beacon.jobs.work import Work
from narrow_beacon.store.campaigns import new_campaign, now
from narrow_beacon.store.database import Store
from narrow_beacon.store.models import Campaign, Job
from running import Client, Running


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


class TestEvents:
    def test_a_listener_is_greeted_and_told_of_changes(self, client: Client, campaign: int) -> None:
        with client.listening() as events:
            assert next(events) == {"kind": "hello", "progress": None}
            found = client.get(f"campaigns/{campaign}/exposures")["exposures"]
            client.post(f"campaigns/{campaign}/aside", {"ids": [found[0]["id"]], "aside": True})
            revision = client.get(f"campaigns/{campaign}")["revision"]
            told = {"kind": "changed", "campaign": campaign, "revision": revision}
            assert next(events) == told
            # The curve says which state it shows, so that nobody fetches it for nothing.
            assert client.get(f"campaigns/{campaign}/curve")["revision"] == revision
            client.post(f"campaigns/{campaign}/undo")
            assert next(events)["kind"] == "changed"

    def test_a_job_is_told_from_begin_to_end(self, client: Client, campaign: int) -> None:
        with client.listening() as events:
            next(events)
            job = client.post(f"campaigns/{campaign}/jobs", {"kind": "sort"})
            told = []
            for event in events:
                told.append(event)
                if event["kind"] == "job" and event["state"] == "done":
                    break
        assert told[0] == {
            "kind": "job", "job": job["id"], "campaign": campaign, "job_kind": "sort",
            "state": "waiting",
        }  # fmt: skip
        words = [event["progress"]["words"] for event in told if event["kind"] == "progress"]
        assert "sorting files" in words
        client.wait(campaign)
        jobs = client.get(f"campaigns/{campaign}/jobs")["jobs"]
        assert next(one for one in jobs if one["id"] == job["id"])["done"] == 55
        # What the exposures look like is found out by itself.
        assert jobs[0]["kind"] == "look"


class TestJobs:
    def test_what_waits_already_is_not_queued_twice(
        self, running: Running, client: Client, campaign: int
    ) -> None:
        # A job of another campaign keeps the runner busy meanwhile.
        busy = client.begin(running, "busy")
        first = client.post(f"campaigns/{campaign}/jobs", {"kind": "sort"})
        again = client.post(f"campaigns/{campaign}/jobs", {"kind": "sort"})
        assert first["state"] == "waiting"
        assert first["id"] == again["id"]
        client.ask("DELETE", f"jobs/{first['id']}")
        assert client.get(f"campaigns/{campaign}/jobs")["jobs"][0]["state"] == "cancelled"
        assert client.wait(busy)["state"] == "done"

    def test_a_job_of_an_unknown_kind_or_campaign_is_refused(
        self, client: Client, campaign: int
    ) -> None:
        assert client.ask("POST", f"campaigns/{campaign}/jobs", {"kind": "cake"}).status_code == 422
        assert client.ask("POST", "campaigns/999999/jobs", {"kind": "sort"}).status_code == 404
        assert client.ask("DELETE", "jobs/999999").status_code == 404


@pytest.fixture
def queue(running: Running, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Queue]:
    """A queue on records of its own, whose jobs do what a test says."""
    store = Store(f"sqlite:///{tmp_path / 'queue.db'}", tmp_path)
    store.migrate()
    made = Queue(store, running.workers())
    monkeypatch.setattr(runner_module, "KINDS", made.kinds)
    yield made
    made.close()


class Queue:
    """A runner that notes what it ran."""

    def __init__(self, store: Store, client: DaskClient) -> None:
        self.store = store
        self.client = client
        self.events = Events()
        self.ran: list[str] = []
        self.kinds = {
            "sort": lambda walk, work: self.ran.append("sort"),
            "masters": self._refuse, "place": self._break, "census": self._wait,
        }  # fmt: skip
        self.begun, self.let_go = threading.Event(), threading.Event()
        self.runner = Runner(store, self.client, self.events, "/var/server.log")
        with store.session() as session:
            self.campaign = new_campaign(session, "queue", []).id

    def _refuse(self, walk: object, work: Work) -> None:
        raise BeaconError("No dark within 20% of 120 s.")

    def _break(self, walk: object, work: Work) -> None:
        raise ZeroDivisionError("a mistake")

    def _wait(self, walk: object, work: Work) -> None:
        self.ran.append("census")
        work.reporter.start("measuring", 3)
        work.reporter.fail("one.fits: cut short")
        self.begun.set()
        # The pool asks now and then whether to stop; so does this.
        while not self.let_go.wait(0.02):
            if work.cancelled():
                work.pool.map(abs, [(1,)])

    def add(self, kind: str, state: str = "waiting") -> int:
        with self.store.session() as session:
            job = Job(campaign_id=self.campaign, kind=kind, state=state, failures=[], created=now())
            session.add(job)
            session.flush()
            return job.id

    def finished(self) -> list[tuple[str, str, str]]:
        """Kind, state and words of all jobs, once all of them are finished."""
        told: SimpleQueue[dict[str, Any]] = SimpleQueue()
        with self.events.telling(told.put):
            self.runner.wake()
            while True:
                with self.store.session() as session:
                    jobs = session.scalars(select(Job).order_by(Job.id)).all()
                if all(job.finished for job in jobs):
                    return [(job.kind, job.state, job.words) for job in jobs]
                told.get(timeout=30)

    def close(self) -> None:
        self.let_go.set()
        self.runner.stop()
        self.client.close()
        self.store.engine.dispose()


class TestRunner:
    def test_jobs_run_in_order_and_one_that_fails_does_not_stop_the_next(
        self, queue: Queue
    ) -> None:
        for kind in ("masters", "place", "sort"):
            queue.add(kind)
        queue.runner.start()
        refused, broken, sorted_all = queue.finished()
        assert refused == ("masters", "failed", "No dark within 20% of 120 s.")
        assert sorted_all == ("sort", "done", "")
        # What was being done, what holds, and where more of it is.
        assert broken[:2] == ("place", "failed")
        for words in ("while starting", "ZeroDivisionError: a mistake", "holds", "server.log"):
            assert words in broken[2]
        with queue.store.session() as session:
            # The page is told by the revision that there is something new to see.
            assert session.get_one(Campaign, queue.campaign).revision == 3
            trace = session.scalars(select(Job.log).where(Job.kind == "place")).one()
            assert "in _break" in trace

    def test_what_was_running_when_the_program_ended_comes_first(self, queue: Queue) -> None:
        queue.add("sort")
        queue.add("census", state="running")
        queue.let_go.set()
        queue.runner.start()
        queue.finished()
        assert queue.ran == ["census", "sort"]

    def test_a_job_that_is_stopped_keeps_what_it_did(self, queue: Queue) -> None:
        job = queue.add("census")
        queue.runner.start()
        queue.runner.wake()
        assert queue.begun.wait(30)
        progress = queue.runner.progress
        assert progress is not None
        assert (progress.job, progress.words) == (job, "measuring")
        queue.runner.cancel(job)
        assert queue.finished() == [("census", "cancelled", "stopped; what was done is kept")]
        with queue.store.session() as session:
            assert session.get_one(Job, job).failures == ["one.fits: cut short"]
        assert queue.runner.progress is None

    def test_a_job_in_the_queue_goes_on_at_the_next_start(self, queue: Queue) -> None:
        job = queue.add("census")
        queue.runner.start()
        queue.runner.wake()
        assert queue.begun.wait(30)
        queue.runner.stop()
        with queue.store.session() as session:
            assert session.get_one(Job, job).state == "running"
        queue.runner = Runner(queue.store, queue.client, queue.events)
        queue.let_go.set()
        queue.runner.start()
        assert queue.finished() == [("census", "done", "")]
        assert queue.ran == ["census", "census"]


class TestLog:
    def test_it_tells_who_did_what_newest_first(self, client: Client, campaign: int) -> None:
        found = client.get(f"campaigns/{campaign}/exposures")["exposures"]
        for n in (0, 1):
            client.post(f"campaigns/{campaign}/aside", {"ids": [found[n]["id"]], "aside": True})
        entries = client.get(f"campaigns/{campaign}/log")["entries"]
        names = [Path(found[n]["name"]).name for n in (1, 0)]
        assert [e["words"] for e in entries[:2]] == [f"set aside {name}" for name in names]
        assert {e["who"] for e in entries[:2]} == {"observer"}
        assert client.post(f"campaigns/{campaign}/undo")["words"] == f"Undone: set aside {names[0]}"
        assert client.get(f"campaigns/{campaign}/log")["entries"][0]["undone"]
        client.post(f"campaigns/{campaign}/undo")
        assert not any(
            e["aside_by"] for e in client.get(f"campaigns/{campaign}/exposures")["exposures"]
        )

    def test_what_changes_nothing_is_not_logged(self, client: Client, campaign: int) -> None:
        found = client.get(f"campaigns/{campaign}/exposures")["exposures"]
        before = client.get(f"campaigns/{campaign}/log")["entries"]
        body = {"ids": [found[2]["id"]], "aside": True, "reason": "haze"}
        client.post(f"campaigns/{campaign}/aside", body)
        assert client.post(f"campaigns/{campaign}/aside", body)["words"] == "Nothing to change."
        client.post(f"campaigns/{campaign}/undo")
        after = client.get(f"campaigns/{campaign}/log")["entries"]
        assert len(after) == len(before) + 1


class TestTwoPages:
    @pytest.fixture
    def pages(self, running: Running) -> tuple[Client, Client]:
        """Two pages on the same campaign, each with a word of its own."""
        both = running.client(), running.client()
        for name, page in zip(("dome", "desk"), both, strict=True):
            page.session.headers["X-Beacon-Page"] = name
        return both

    def test_what_a_page_has_not_seen_it_does_not_overwrite(
        self, pages: tuple[Client, Client], campaign: int
    ) -> None:
        dome, desk = pages
        path = f"campaigns/{campaign}"
        seen = dome.get(path)
        cast, before = seen["cast"], {"If-Match": f'"{seen["revision"]}"'}

        def without(row: int) -> dict[str, Any]:
            comparison = [star for star in cast["comparison"] if star != row]
            return {"target": cast["target"], "comparison": comparison, "checks": cast["checks"]}

        first, second = cast["comparison"][:2]
        desk.post(f"{path}/cast", without(first))
        late = dome.session.post(f"{dome.url}/api/{path}/cast", json=without(second),
                                 headers=before, timeout=60)  # fmt: skip
        assert late.status_code == 412
        assert late.json()["detail"].count("is no longer a comparison star") == 2
        assert dome.get(path)["cast"]["comparison"] == without(first)["comparison"]
        desk.ask("PATCH", path, {"name": "theirs"})
        named = dome.session.patch(f"{dome.url}/api/{path}", json={"name": "mine"}, headers=before,
                                   timeout=60).json()["detail"]  # fmt: skip
        assert "It is “theirs” now; yours was “mine”." in named
        desk.post(f"{path}/undo")
        # Something else may be changed from the old view, and the same once it was looked at.
        file = dome.get(f"{path}/exposures")["exposures"][0]["id"]
        body = {"ids": [file], "aside": True}
        assert dome.session.post(f"{dome.url}/api/{path}/aside", json=body, headers=before).ok
        now = {"If-Match": f'"{dome.get(path)["revision"]}"'}
        assert dome.session.post(
            f"{dome.url}/api/{path}/cast", json=without(second), headers=now
        ).ok
        # Each takes back its own; the desk's cannot go while the dome's stands on it.
        assert desk.get(path)["undo"]["words"].endswith("is no longer a comparison star")
        refused = desk.ask("POST", f"{path}/undo")
        assert refused.status_code == 412
        meant = dome.get(path)["undo"]
        assert not meant["elsewhere"]
        dome.post(f"{path}/undo?entry={meant['id']}")
        assert dome.ask("POST", f"{path}/undo?entry={meant['id']}").status_code == 412
        desk.post(f"{path}/undo")
        assert desk.get(path)["cast"]["comparison"] == cast["comparison"]
        dome.post(f"{path}/undo")
        last = desk.get(path)["undo"]
        assert last is None or last["elsewhere"]

    def test_an_undo_is_held_up_by_what_still_stands_on_it_only(
        self, pages: tuple[Client, Client], campaign: int
    ) -> None:
        dome, desk = pages
        path = f"campaigns/{campaign}"
        before = dome.get(path)["name"]
        dome.ask("PATCH", path, {"name": "one"})
        desk.ask("PATCH", path, {"name": "two"})
        desk.ask("PATCH", path, {"name": "three"})
        desk.post(f"{path}/undo")  # three; two still stands on one
        assert dome.ask("POST", f"{path}/undo").status_code == 412
        desk.post(f"{path}/undo")
        dome.post(f"{path}/undo")
        assert dome.get(path)["name"] == before

    def test_a_button_clicked_twice_makes_one_report(
        self, pages: tuple[Client, Client], campaign: int
    ) -> None:
        before = len(pages[0].get(f"campaigns/{campaign}/report")["reports"])
        with ThreadPoolExecutor(2) as both:
            made = list(both.map(lambda page: page.post(f"campaigns/{campaign}/report"), pages))
        assert made[0]["id"] == made[1]["id"]
        assert len(pages[0].get(f"campaigns/{campaign}/report")["reports"]) == before + 1

    def test_files_of_one_name_sent_at_once_are_all_kept(
        self, pages: tuple[Client, Client]
    ) -> None:
        page = pages[0]
        made = page.post("campaigns", {"name": "sent", "folders": []})

        def send(number: int) -> int:
            files = {"files": ("night.fits", f"file {number}".encode())}
            path = f"{page.url}/api/campaigns/{made['id']}/upload"
            return requests.post(path, files=files, cookies=page.session.cookies).status_code

        with ThreadPoolExecutor(8) as many:
            assert set(many.map(send, range(8))) == {200}
        page.wait(made["id"])
        (folder,) = page.get(f"campaigns/{made['id']}")["folders"]
        kept = {path.read_text() for path in Path(folder).iterdir()}
        assert kept == {f"file {number}" for number in range(8)}
