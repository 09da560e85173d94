"""What is sent has to be data that can be kept: finite numbers, true text, a bound on size."""

from __future__ import annotations

import json
import math
from typing import Any, NoReturn

from apiflask import APIFlask
from flask import request
from werkzeug.routing import IntegerConverter

from narrow_beacon.server.problems import Problem

_MOST_JSON_BYTES = 8_000_000
_MOST_DEPTH = 20
_MOST_INTEGER = 2**53


class _ShortInteger(IntegerConverter):
    """The number of a record, in an address."""

    regex = r"\d{1,9}"


def install(app: APIFlask) -> None:
    """Refuse what cannot be kept before anything else looks at it."""
    app.url_map.converters["int"] = _ShortInteger

    @app.before_request
    def check() -> None:
        if request.mimetype == "multipart/form-data":
            return
        if (request.content_length or 0) > _MOST_JSON_BYTES:
            raise Problem(413, "Too much at once", "A request may have 8 MB; a night is uploaded.")
        request.max_content_length = _MOST_JSON_BYTES
        if request.is_json:
            read_json(request.get_data(cache=True))


def read_json(data: bytes) -> Any:
    """JSON as its standard has it. Raises Problem for NaN, infinity, numbers beyond any use, half
    characters, and nesting without end.
    """
    if not data:
        return None
    try:
        value = json.loads(data, parse_constant=_not_finite, parse_float=_finite, parse_int=_whole)
        _check(value, 0)
    except RecursionError as error:
        raise Problem(400, "Not usable", "It is nested too deeply.") from error
    except UnicodeError as error:
        raise Problem(400, "Not usable", "Its text is not UTF-8.") from error
    except ValueError as error:
        raise Problem(400, "Not usable", f"It is not JSON: {str(error)[:200]}.") from error
    return value


def _not_finite(text: str) -> NoReturn:
    raise ValueError(f"{text} is no number")


def _finite(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise ValueError("a number is too large")
    return value


def _whole(text: str) -> int:
    if len(text) > 17 or abs(int(text)) > _MOST_INTEGER:
        raise ValueError("a number is too large")
    return int(text)


def _check(value: Any, depth: int) -> None:
    if depth > _MOST_DEPTH:
        raise ValueError("it is nested too deeply")
    if isinstance(value, str):
        value.encode()  # half of a pair of surrogates is no character
    elif isinstance(value, list):
        for item in value:
            _check(item, depth + 1)
    elif isinstance(value, dict):
        for key, item in value.items():
            key.encode()
            _check(item, depth + 1)
