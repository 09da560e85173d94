"""The process that answers the page: one loop that reads requests and sends events, and threads
that work the requests off.

Nobody holds a thread by only being connected: a request comes to a thread when its header is
whole, one that is not in time is ended, and an open page costs no more than a place in the loop.
"""

from __future__ import annotations

import asyncio
import contextlib
import gc
import json
import os
import resource
import sys
from collections.abc import Awaitable, Callable, MutableMapping
from dataclasses import asdict
from pathlib import Path
from types import FrameType
from typing import Any

import h11
import uvicorn
from a2wsgi import WSGIMiddleware
from apiflask import APIFlask
from uvicorn.protocols.http.h11_impl import H11Protocol

from narrow_beacon.processes import LOG_VARIABLE
from narrow_beacon.server.app import make_app
from narrow_beacon.server.config import ServerConfig, wait_for_config
from narrow_beacon.server.ease import Ease
from narrow_beacon.server.state import ServerState
from narrow_beacon.server.views import forget_buffers

EVENTS_PATH = "/api/events"
_THREADS = 40
_HEADER_S = 15.0
_SILENT_BODY_S = 30.0
_PULSE_S = 10.0
_KEPT_EVENTS = 500
_FAREWELL_S = 3
_KEEP_ALIVE_S = 30
_BACKLOG = 512
_LOOK_FOR_CIRCLES = 50_000, 10, 5

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]


class Front:
    """Sends events from the loop, and gives everything else to the application's threads."""

    def __init__(self, app: APIFlask, *, pulse_s: float = _PULSE_S) -> None:
        self._threads = WSGIMiddleware(app, workers=_THREADS)  # type: ignore[arg-type]
        self._state: ServerState = app.extensions["narrow_beacon"]
        self._pulse_s = pulse_s
        self._leaving = asyncio.Event()
        self._ease = Ease(forget_buffers)
        self._ease.start()

    def leave(self) -> None:
        """The process ends: open pages are let go."""
        self._leaving.set()

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        if scope["type"] == "http" and scope["path"] == EVENTS_PATH and scope["method"] == "GET":
            if await self._may_listen(scope, receive, send):
                await self._send_events(receive, send)
            return
        try:
            await self._threads(scope, receive, send)  # type: ignore[arg-type]
        finally:
            self._ease.asked()

    async def _may_listen(self, scope: Message, receive: Receive, send: Send) -> bool:
        """Ask the application, whose checks stand before every answer; pass on its refusal."""
        allowed = True

        async def watch(message: Message) -> None:
            nonlocal allowed
            if message["type"] == "http.response.start":
                allowed = message["status"] == 204
            if not allowed:
                await send(message)

        await self._threads(scope, receive, watch)  # type: ignore[arg-type]
        return allowed

    async def _send_events(self, receive: Receive, send: Send) -> None:
        loop = asyncio.get_running_loop()
        waiting: asyncio.Queue[dict[str, Any]] = asyncio.Queue(_KEPT_EVENTS)

        def take(event: dict[str, Any]) -> None:
            if waiting.full():  # whoever sleeps this long looks at everything anew
                waiting.get_nowait()
            waiting.put_nowait(event)

        ends = asyncio.create_task(_until_gone(receive)), asyncio.create_task(self._leaving.wait())
        with self._state.events.telling(lambda event: _call(loop, take, event)):
            headers = [
                (b"content-type", b"text/event-stream"),
                (b"cache-control", b"no-store"),
                (b"x-accel-buffering", b"no"),
            ]
            await send({"type": "http.response.start", "status": 200, "headers": headers})
            running = self._state.runner.progress
            await _say(send, {"kind": "hello", "progress": asdict(running) if running else None})
            while not any(end.done() for end in ends):
                asked = asyncio.create_task(waiting.get())
                await asyncio.wait(
                    {asked, *ends}, timeout=self._pulse_s, return_when=asyncio.FIRST_COMPLETED
                )
                if asked.done():
                    await _say(send, asked.result())
                    continue
                asked.cancel()
                await send(_piece(": still here\n\n"))
        for end in ends:
            end.cancel()
        await send({"type": "http.response.body", "body": b""})


def _call(loop: asyncio.AbstractEventLoop, act: Callable[..., None], *values: object) -> None:
    with contextlib.suppress(RuntimeError):  # the loop has ended meanwhile
        loop.call_soon_threadsafe(act, *values)


async def _until_gone(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


async def _say(send: Send, event: dict[str, Any]) -> None:
    await send(_piece(f"data: {json.dumps(event)}\n\n"))


def _piece(text: str) -> Message:
    return {"type": "http.response.body", "body": text.encode(), "more_body": True}


class PatientProtocol(H11Protocol):
    """HTTP with an end to patience: a header has to be whole, and a body to go on, in time."""

    header_s = _HEADER_S
    silent_body_s = _SILENT_BODY_S
    _limit: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._limit = self.loop.call_later(self.header_s, self._end)

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        state = self.conn.their_state
        if state is h11.SEND_BODY:
            self._wait(self.silent_body_s)
        elif state is not h11.IDLE:
            self._wait(None)
        elif self._limit is None:
            self._wait(self.header_s)  # the first piece of another request

    def connection_lost(self, exc: Exception | None) -> None:
        self._wait(None)
        super().connection_lost(exc)

    def _wait(self, seconds: float | None) -> None:
        if self._limit is not None:
            self._limit.cancel()
        self._limit = None if seconds is None else self.loop.call_later(seconds, self._end)

    def _end(self) -> None:
        if self.conn.their_state is h11.SEND_BODY and self.flow.read_paused:
            self._wait(self.silent_body_s)  # it is we who do not read
            return
        self.transport.abort()


class _Server(uvicorn.Server):
    """Lets open pages go before it waits for the requests that are being worked off."""

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        front = self.config.app
        assert isinstance(front, Front)
        front.leave()
        super().handle_exit(sig, frame)


def serve(config: ServerConfig) -> None:
    """Answer at the configuration's address until the process is asked to end."""
    _, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))
    settings = uvicorn.Config(
        Front(make_app(config)), host=config.bind, port=config.port, http=PatientProtocol,
        ws="none", lifespan="off", log_level="warning", access_log=False, server_header=False,
        proxy_headers=False, backlog=_BACKLOG, timeout_keep_alive=_KEEP_ALIVE_S,
        timeout_graceful_shutdown=_FAREWELL_S, ssl_certfile=config.certificate,
        ssl_keyfile=config.key,
    )  # fmt: skip
    _Server(settings).run()


def main() -> None:
    """Wait for the configuration that the environment names, and serve by it."""
    log = os.environ.get(LOG_VARIABLE)
    if log:
        Path(log).parent.mkdir(parents=True, exist_ok=True)
        sys.stdout = sys.stderr = open(log, "a", buffering=1)  # noqa: SIM115 - for good
    # A large campaign has a million objects, none of them in a circle; to look through them all
    # holds up every answer.
    gc.freeze()
    gc.set_threshold(*_LOOK_FOR_CIRCLES)
    serve(wait_for_config())


if __name__ == "__main__":
    main()
