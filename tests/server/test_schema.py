"""The API keeps its word: whatever is asked of it by its own schema, it never breaks down."""

from __future__ import annotations

from collections.abc import Iterator

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
