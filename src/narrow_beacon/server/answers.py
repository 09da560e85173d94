"""How answers travel: with a mark by which a browser asks whether they are still so, and packed
where they leave the machine.
"""

from __future__ import annotations

import gzip
import ipaddress

from flask import Flask, Response, request

_PACKED_FROM_BYTES = 8192
_LEVEL = 1
"""The quickest: a network waits for the bytes, and the observer for both."""


def install(app: Flask) -> None:
    """Mark and pack what is asked for and answered as JSON."""

    @app.after_request
    def travel(response: Response) -> Response:
        whole = request.method == "GET" and response.status_code == 200
        if not whole or not response.is_json or response.direct_passthrough:
            return response
        if not response.cache_control.no_store:
            response.headers["Cache-Control"] = "private, no-cache"
            response.add_etag(weak=True)
            response.make_conditional(request)
        if response.status_code == 200 and _worth_packing(response):
            response.set_data(gzip.compress(response.get_data(), _LEVEL))
            response.headers["Content-Encoding"] = "gzip"
            response.vary.add("Accept-Encoding")
        return response


def _worth_packing(response: Response) -> bool:
    long = (response.content_length or 0) >= _PACKED_FROM_BYTES
    return long and "gzip" in request.accept_encodings and not _on_this_machine()


def _on_this_machine() -> bool:
    """Whether who asks is no network away: packing takes longer than handing it over."""
    try:
        return ipaddress.ip_address(request.remote_addr or "").is_loopback
    except ValueError:
        return False
