"""The API keeps its word: whatever is asked of it by its own schema, it never breaks down."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import pytest
import schemathesis
from hypothesis import HealthCheck, settings

from narrow_beacon.server.app import bare_app
from running import Client, Running

schema = schemathesis.openapi.from_dict(bare_app().spec).include(method=["GET", "POST", "PATCH"])


@pytest.fixture(scope="module")
def client(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Client]:
    """An application of its own: what is asked of it here must not meet what others look at."""
    running = Running(tmp_path_factory.mktemp("schema"))
    yield running.client()
    running.close()


@schema.parametrize()
@settings(
    max_examples=6,
    deadline=None,
    derandomize=True,
    suppress_health_check=list(HealthCheck),
    database=None,
)
def test_no_request_breaks_the_server(case: schemathesis.Case, client: Client) -> None:
    response = case.call(base_url=client.url, session=client.session, timeout=60)
    assert response.status_code < 500, response.text
    if response.status_code >= 400:
        assert response.headers["content-type"] == ["application/problem+json"]


HOSTILE = (
    "NaN", "Infinity", "-Infinity", "1e999", "-1", "0", "1e30", "9" * 30, "9" * 5000, "true",
    "null",
    '""', '"\\ud800"', '"\\u0000"', '"x\\n[/b]</script>"', json.dumps("x" * 100_000), "[]", "{}",
    "[[[[]]]]", "[null, true, 1.5]", '["a", "a"]', "[" * 3000 + "]" * 3000,
    '{"a":' * 3000 + "1" + "}" * 3000, json.dumps(["x"] * 20_000), "'", "",
)  # fmt: skip
WHOLE = ("", "null", "[]", "1", "NaN", '"a"', "{", "{}", '{"": 1}', "\xff\xfe", "[" * 100_000)


def bodies() -> Iterator[tuple[str, str, list[str]]]:
    """Method, path and raw bodies of every operation that takes one: each field with each value."""
    spec = bare_app().spec
    for path, methods in spec["paths"].items():
        for method, operation in methods.items():
            if method not in ("post", "patch", "put"):
                continue
            content = operation.get("requestBody", {}).get("content", {})
            schema = content.get("application/json", {}).get("schema", {})
            name = schema.get("$ref", "").rpartition("/")[2]
            fields = spec["components"]["schemas"].get(name, {}).get("properties", {})
            filled = {field: _valid(value) for field, value in fields.items()}
            raw = list(WHOLE)
            for field in fields:
                rest = {k: v for k, v in filled.items() if k != field}
                start = json.dumps(rest)[:-1] + (", " if rest else "")
                raw += [f'{start}"{field}": {value}}}' for value in HOSTILE]
            yield method, path.replace("{number}", "1"), raw


def _valid(schema: dict[str, Any]) -> Any:
    for kind in (schema, *schema.get("anyOf", [])):
        if "enum" in kind:
            return kind["enum"][0]
        if kind.get("type") in ("integer", "number"):
            return 1
        if kind.get("type") == "string":
            return "a"
        if kind.get("type") == "array":
            return []
        if kind.get("type") == "boolean":
            return False
    return None


@pytest.mark.parametrize(
    ("method", "path", "raw"), list(bodies()), ids=lambda value: str(value)[:40]
)
def test_no_value_of_any_field_breaks_the_server(
    client: Client, method: str, path: str, raw: list[str]
) -> None:
    client.post("campaigns", {"name": "there is one"})
    for body in raw:
        response = client.session.request(
            method, f"{client.url}{path}", data=body.encode("latin-1"),
            headers={"Content-Type": "application/json"}, timeout=60,
        )  # fmt: skip
        assert response.status_code < 500, (body[:200], response.text[:500])
        assert "Traceback" not in response.text
        assert "SELECT" not in response.text


ADDRESSES = [
    "/api/campaigns/99999999999999999999",
    "/api/campaigns/-1",
    "/api/campaigns/%00",
    "/%ff%fe",
    "/..%2f..%2fetc",
    "/api/campaigns/1/star?row=NaN&file=1e400",
    "/api/folders?path=%00",
    "/api/folders?path=~",
    "/api/folders?path=~nobody-there",
    "/api/images/files/1/0/9/9?off=%ff",
    "/api/images/cakes/1",
    "/api/reports/1/..%2f..%2fplan.toml",
    "/api/campaigns/1/undo?entry=x",
]
ADDRESSES += [
    f"/api/campaigns/{'9' * 5000}", f"/api/campaigns/1/star?row={'9' * 500}&file=1",
    f"/api/folders?path=/{'a' * 5000}", f"/api/campaigns/1/names?pattern={'*a' * 90}{{kind}}b",
]  # fmt: skip


@pytest.mark.parametrize("path", ADDRESSES, ids=lambda path: path[:40])
def test_no_address_breaks_the_server(client: Client, path: str) -> None:
    for method in ("GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"):
        response = client.session.request(method, f"{client.url}{path}", timeout=60)
        assert response.status_code < 500, response.text[:500]
