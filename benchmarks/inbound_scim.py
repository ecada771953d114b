"""B1: SCIM POST and PATCH of users by 4 clients, against a bare route on the same server with one INSERT and
commit.
"""

from __future__ import annotations

import http.client
import json
import multiprocessing
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import psutil

from dravo.demo import scenario
from dravo.demo.support import free_port
from tests.harness import answers, eventually, service

CLIENTS = 4
EACH = 1_000


def one_client(
    port: int, prefix: str, headers: dict[str, str], users: list[dict[str, Any]], results: Any
) -> None:
    """POST all users, then PATCH each; put the seconds of both halves into `results`."""
    connection = http.client.HTTPConnection("127.0.0.1", port)

    def send(method: str, path: str, body: Any) -> Any:
        connection.request(
            method, prefix + path, json.dumps(body), {**headers, "Content-Type": "application/scim+json"}
        )
        answer = connection.getresponse()
        content = answer.read()
        assert answer.status < 300, content
        return json.loads(content)

    began = time.perf_counter()
    ids = [send("POST", "/Users", user)["id"] for user in users]
    middle = time.perf_counter()
    for number, identifier in enumerate(ids):
        operation = {"op": "replace", "path": "title", "value": f"Gardener {number}"}
        send(
            "PATCH",
            f"/Users/{identifier}",
            {"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [operation]},
        )
    results.put((middle - began, time.perf_counter() - middle))


def rates(port: int, prefix: str, headers: dict[str, str], run: int) -> tuple[float, float]:
    """Return requests a second for POST and for PATCH."""
    users = scenario.crowd(CLIENTS * EACH, seed=run)
    for number, user in enumerate(users):
        user["userName"] = f"run{run}.{number}"
    results: Any = multiprocessing.Queue()
    parts = [users[number * EACH : (number + 1) * EACH] for number in range(CLIENTS)]
    clients = [
        multiprocessing.Process(target=one_client, args=(port, prefix, headers, part, results))
        for part in parts
    ]
    for client in clients:
        client.start()
    times = [results.get(timeout=300) for _ in clients]
    for client in clients:
        client.join()
    return CLIENTS * EACH / max(post for post, _ in times), CLIENTS * EACH / max(patch for _, patch in times)


def run() -> None:
    """Measure baseline and service in turn, three rounds; print the best of each and their ratio."""
    with tempfile.TemporaryDirectory() as folder:
        port = free_port()
        bare = subprocess.Popen(
            [sys.executable, "-m", "benchmarks.baseline", f"{folder}/bare.sqlite", str(port)],
            stdin=subprocess.PIPE,
        )
        eventually(lambda: answers(f"http://127.0.0.1:{port}/"))
        with service(Path(tempfile.mkdtemp(dir=folder))) as running:
            provider = running.provider("staff")
            token = {"Authorization": provider.http.headers["Authorization"]}
            measured = []
            for number in range(3):
                measured.append(
                    (*rates(port, "", {}, number), *rates(running.port, "/scim/v2/staff", token, number))
                )
            memory = psutil.Process(running.pid("web")).memory_info().rss / 1024 / 1024
        bare.kill()
    bare_post, bare_patch, post, patch = (max(column) for column in zip(*measured, strict=True))
    print(
        f"B1  POST   bare {bare_post:6.0f}/s  service {post:6.0f}/s  ratio {post / bare_post:.2f}  "
        "(goal: at least 0.5)"
    )
    print(
        f"B1  PATCH  bare {bare_patch:6.0f}/s  service {patch:6.0f}/s  ratio {patch / bare_patch:.2f}  "
        "(goal: at least 0.5)"
    )
    print(f"B1  memory of the web process afterwards: {memory:.0f} MB")
