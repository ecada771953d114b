"""/metrics: numbers for anyone who watches, in the OpenMetrics text format, for those with a token."""

from __future__ import annotations

import re
from collections.abc import Callable

import httpx

from tests.harness import Running, StandIn

LINE = re.compile(r'[a-z_]+(\{[a-z_]+="(\\.|[^"\\])*"(,[a-z_]+="(\\.|[^"\\])*")*\})? [-0-9.e+]+')


def test_metrics_require_a_token(running: Running, app: StandIn, fresh: Callable[[str], str]) -> None:
    key, source = fresh("records"), fresh("source")
    running.application(key, app)
    name = fresh("quentin")
    running.provider(source).user(name)
    with running.dravo as dravo:
        app.faults(refuse=True)
        dravo.assignments.add(key, "viewer", user=name)
        running.settled(key)
        assert dravo.tasks.errors(key)
    assert httpx.get(f"{running.url}/metrics", trust_env=False).status_code == 401
    answer = httpx.get(
        f"{running.url}/metrics", headers={"Authorization": f"Bearer {running.api_token}"}, trust_env=False
    )
    assert answer.status_code == 200 and answer.headers["Content-Type"].startswith(
        "application/openmetrics-text"
    )
    lines = answer.text.splitlines()
    assert lines[-1] == "# EOF"
    assert all(line.startswith("# ") or LINE.fullmatch(line) for line in lines), lines
    assert f'dravo_records{{source="{source}"}} 1' in lines
    assert f'dravo_tasks_open{{application="{key}",status="failed"}} 1' in lines
    assert "quentin" not in answer.text.replace("dravo_", "")
