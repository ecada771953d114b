"""How the console and the process around it are served: headers, caching, logs, and the loop of the
worker.
"""

from __future__ import annotations

import contextlib
import io
import json
import logging
import multiprocessing
import os
import re
import resource
import shutil
import signal
import socket
import sqlite3
import threading
import time
from pathlib import Path
from typing import Any

import httpx
import psutil
import pytest
import structlog

from dravo.client import Dravo, TryAgainLater
from dravo.client.errors import ApiError
from dravo.core.errors import DravoError, InvalidInput, StorageFailing
from dravo.demo.http_server import Answer, make_server
from dravo.demo.support import free_port
from dravo.logs import configure
from dravo.services.context import AppContext
from dravo.services.heartbeats import LATE_SECONDS, LOST_SECONDS, Heartbeats
from dravo.services.reporting import overview
from dravo.services.reporting.metrics import as_text, of_worker
from dravo.services.security import operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR
from dravo.services.security.secrets import KEY_FILE
from dravo.store.database import FILE_NAME, NotReadable
from dravo.supervisor import (
    AddressNotUsable,
    NoInstallation,
    Service,
    ServiceAddress,
    folder_lock,
    listen,
    serve,
)
from dravo.web.app import create_app
from dravo.web.process import IDLE_SECONDS
from dravo.worker.loop import Worker
from tests.harness import PASSWORD, Running, answers, eventually, service, set_up
from tests.service_fixture import ServiceFixture


def test_the_console_has_a_strict_content_security_policy(running: Running) -> None:
    pages = [
        httpx.get(f"{running.url}{path}") for path in ("/", "/users", "/applications/x/mapping", "/sign-in")
    ]
    nonces = set()
    for page in pages:
        assert page.status_code == 200
        policy = page.headers["Content-Security-Policy"]
        assert "default-src 'none'" in policy
        assert "unsafe" not in policy
        nonce = re.search(r"'nonce-([\w-]+)'", policy)
        assert nonce is not None
        assert f'content="{nonce.group(1)}"' in page.text
        nonces.add(nonce.group(1))
        assert page.headers["X-Frame-Options"] == "DENY"
        assert page.headers["Cache-Control"] == "no-cache"
        assert not re.search(r"<script(?![^>]*\bsrc=)", page.text), "an inline script"
    assert len(nonces) == len(pages)


def test_assets_are_kept_by_browsers_and_answers_of_the_api_are_not(running: Running) -> None:
    asset = re.search(r'src="(/assets/[^"]+)"', httpx.get(running.url).text)
    assert asset is not None
    answer = httpx.get(running.url + asset.group(1))
    assert "immutable" in answer.headers["Cache-Control"]
    assert "javascript" in answer.headers["Content-Type"]
    api = httpx.get(
        f"{running.url}/api/v1/overview", headers={"Authorization": f"Bearer {running.api_token}"}
    )
    assert api.headers["Cache-Control"] == "no-store"
    metrics = httpx.get(f"{running.url}/metrics", headers={"Authorization": f"Bearer {running.api_token}"})
    assert (metrics.status_code, metrics.headers["Cache-Control"]) == (200, "no-store")
    document = httpx.get(f"{running.url}/api/v1/openapi.json")
    assert document.headers["Cache-Control"] == "no-cache"
    again = httpx.get(
        f"{running.url}/api/v1/openapi.json", headers={"If-None-Match": document.headers["ETag"]}
    )
    assert (again.status_code, again.content) == (304, b"")
    assert api.headers["X-Content-Type-Options"] == "nosniff"


def test_the_first_page_loads_less_than_it_may(running: Running) -> None:
    import gzip

    built = Path(__file__).parents[2] / "src/dravo/web/console/built/assets"
    entry = re.search(r'src="/(assets/[^"]+)"', httpx.get(running.url).text)
    assert entry is not None
    loaded, waiting = set(), [Path(entry.group(1)).name]
    for page in built.glob("OverviewPage-*.js"):
        waiting.append(page.name)
    while waiting:
        name = waiting.pop()
        if name not in loaded:
            loaded.add(name)
            # What a module imports at its beginning, not what it may load later.
            waiting += re.findall(r'from"\./([\w.-]+\.js)"', (built / name).read_text())
    size = sum(len(gzip.compress((built / name).read_bytes())) for name in loaded)
    assert 10_000 < size < 300_000


def test_unknown_paths_answer_in_the_form_of_their_api(running: Running) -> None:
    assert httpx.get(f"{running.url}/api/none").status_code == 404
    assert httpx.get(f"{running.url}/sso/none/start").status_code == 404
    assert httpx.get(f"{running.url}/api/v1/none").json()["error"]["code"] == "not_found"
    assert httpx.delete(f"{running.url}/api/v1/overview").status_code == 405


def test_behind_a_proxy_every_address_follows_the_public_one(services: ServiceFixture) -> None:
    app = create_app(services.ctx, "https://dravo.fernhollow.example/")
    assert app.config["PUBLIC_URL"] == "https://dravo.fernhollow.example"
    http = app.test_client()
    assert http.get("/sign-in", headers={"Host": "evil.example"}).headers.get("Strict-Transport-Security")
    from dravo.services.security import operators
    from dravo.services.sources import tokens as scim_tokens

    operators.add(
        services.ctx, services.caller, NewOperator("ada", "super_administrator"), "a-long-enough-one"
    )
    services.source("staff")
    signed = http.post(
        "/api/v1/session",
        json={"name": "ada", "password": "a-long-enough-one"},
        headers={"X-Forwarded-Host": "evil.example"},
    )
    assert "Secure" in signed.headers["Set-Cookie"]
    token = scim_tokens.add_token(services.ctx, services.caller, "staff", "x").token
    made = http.post(
        "/scim/v2/staff/Users",
        json={"userName": "a"},
        headers={"Authorization": f"Bearer {token}", "Host": "evil.example"},
    )
    assert made.headers["Location"].startswith("https://dravo.fernhollow.example/scim/v2/staff/Users/")


def test_an_unexpected_error_is_logged_and_answered_without_details(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    app = create_app(services.ctx, "http://127.0.0.1:1")
    app.config["PROPAGATE_EXCEPTIONS"] = False

    def broken(*_: Any) -> None:
        raise RuntimeError("the secret inside")

    monkeypatch.setattr("dravo.web.api.auth.api_tokens.by_text", broken)
    answer = app.test_client().get("/api/v1/overview", headers={"Authorization": "Bearer x"})
    assert (answer.status_code, answer.json["error"]["code"]) == (500, "internal")
    assert "secret inside" not in answer.text
    assert overview.band(services.ctx)


def test_logs_are_json_lines_that_name_their_process() -> None:
    file = io.StringIO()
    before = structlog.get_config()
    configure("worker", file)
    try:
        structlog.get_logger("x").info("something happened", number=3)
        password = "".join(("held ", "by a variable"))
        try:
            assert password
            raise ValueError("wrong")
        except ValueError:
            structlog.get_logger("x").exception("it broke")
        thread = threading.Thread(target=lambda: structlog.get_logger("x").info("beside"))
        thread.start()
        thread.join()
        # What libraries say is a line like all others.
        logging.getLogger("some.library").warning("%s went wrong", "something")
        logging.getLogger("waitress.queue").warning("Task queue depth is 1")
    finally:
        structlog.configure(**before)
        root = logging.getLogger()
        root.handlers = [each for each in root.handlers if type(each).__name__ != "_Lines"]
    lines = [json.loads(line) for line in file.getvalue().splitlines()]
    assert [(line["event"], line["process"], line["level"]) for line in lines] == [
        ("something happened", "worker", "info"),
        ("it broke", "worker", "error"),
        ("beside", "worker", "info"),
        ("something went wrong", "worker", "warning"),
    ]
    assert lines[3]["logger"] == "some.library" and lines[3]["timestamp"]
    assert lines[1]["exception"][0]["exc_type"] == "ValueError"
    assert "held by a variable" not in file.getvalue()


def test_a_stopped_service_releases_its_folder(tmp_path: Path) -> None:
    with folder_lock(tmp_path), pytest.raises(DravoError, match="Another service"), folder_lock(tmp_path):
        pass
    with folder_lock(tmp_path):
        pass


def test_a_service_that_ends_before_its_data_folder_is_set_up_leaves_no_database(tmp_path: Path) -> None:
    Service(tmp_path, ServiceAddress("127.0.0.1", free_port())).stop()
    assert list(tmp_path.iterdir()) == []


def test_addresses_follow_where_one_listens(tmp_path: Path) -> None:
    assert ServiceAddress("127.0.0.1", 8420).public_url == "http://127.0.0.1:8420"
    assert ServiceAddress("0.0.0.0", 80).public_url == "http://localhost:80"
    assert ServiceAddress("127.0.0.1", 8420, "https://x.example/").public_url == "https://x.example"


def test_a_worker_stops_on_request_and_survives_a_locked_database(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    looked = threading.Event()

    def look(self: Worker) -> int:
        looked.set()
        raise DravoError("locked")

    monkeypatch.setattr(Worker, "look", look)
    worker = Worker(services.ctx)
    thread = threading.Thread(target=worker.run)
    thread.start()
    assert looked.wait(5)
    worker.stop()
    thread.join(5)
    assert not thread.is_alive()


@pytest.mark.parametrize(
    ("answer", "kind", "words"),
    [
        (Answer(200, "<html>", "text/html"), ApiError, "JSON"),
        (Answer(502, "<html>bad gateway", "text/html"), TryAgainLater, " without an error from Dravo."),
        (Answer(418, {"error": "text"}, "application/json"), ApiError, " without an error from Dravo."),
    ],
)
def test_the_client_tells_what_is_no_dravo(answer: Answer, kind: type[Exception], words: str) -> None:
    port = free_port()
    server = make_server("127.0.0.1", port, lambda call: answer)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    eventually(lambda: httpx.get(f"http://127.0.0.1:{port}"))
    with pytest.raises(kind, match=words):
        Dravo(f"http://127.0.0.1:{port}", "x").overview()
    server.shutdown()
    server.server_close()


def test_behind_a_proxy_each_caller_is_where_the_proxy_says(tmp_path: Path) -> None:
    behind = set_up(tmp_path)
    behind.start("--proxy", "127.0.0.1", "--public-url", "https://dravo.fernhollow.example")

    def enter(address: str, password: str = "wrong-wrong-wrong") -> int:
        body = {"name": "edmund.sallow", "password": password}
        return httpx.post(
            f"{behind.url}/api/v1/session", json=body, headers={"X-Forwarded-For": address}, trust_env=False
        ).status_code

    try:
        assert [enter("192.0.2.7") for _ in range(11)] == [401] * 10 + [429]
        # Anyone who guesses shuts out themselves, and nobody who is elsewhere; what somebody claims before
        # the proxy's word counts for nothing.
        assert enter("192.0.2.8", PASSWORD) == 200
        assert enter("192.0.2.8, 192.0.2.7", PASSWORD) == 429
    finally:
        behind.stop()


def test_a_proxy_is_named_by_its_address(tmp_path: Path) -> None:
    with pytest.raises(InvalidInput, match="' is not an IP address"):
        serve(tmp_path, "127.0.0.1", free_port(), proxy="*")


def test_a_service_that_cannot_listen_says_why(tmp_path: Path) -> None:
    set_up(tmp_path)
    port = free_port()
    with (
        socket.create_server(("127.0.0.1", port)),
        pytest.raises(AddressNotUsable, match=f"Port {port} of 127.0.0.1 is in use"),
    ):
        serve(tmp_path, "127.0.0.1", port)
    with pytest.raises(AddressNotUsable, match="' is not an address of this machine"):
        serve(tmp_path, "192.0.2.1", port)
    with pytest.raises(AddressNotUsable, match="' is not an address of this machine"):
        serve(tmp_path, "nothing-of-that-name.invalid", port)
    with pytest.raises(AddressNotUsable, match="99999 is not a valid port"):
        serve(tmp_path, "127.0.0.1", 99999)


def test_a_host_is_listened_on_at_the_addresses_that_the_machine_has(monkeypatch: pytest.MonkeyPatch) -> None:
    port = free_port()
    found = [
        (socket.AF_INET6, 1, 6, "", ("2001:db8::1", port, 0, 0)),
        (socket.AF_INET, 1, 6, "", ("127.0.0.1", port)),
    ]
    monkeypatch.setattr(socket, "getaddrinfo", lambda *_, **__: found)
    (opened,) = listen("garden", port)
    assert opened.getsockname() == ("127.0.0.1", port)
    opened.close()


def test_callers_wait_while_the_web_process_is_started_again(tmp_path: Path) -> None:
    with service(tmp_path) as running:
        for _ in range(3):
            before = running.pid("web")
            os.kill(before, signal.SIGKILL)
            # Anyone who was connected may be cut off; anyone who comes from now on is served.
            eventually(lambda before=before: not Path(f"/proc/{before}").exists())  # type: ignore[misc]
            assert httpx.get(f"{running.url}/healthz", trust_env=False, timeout=60).status_code == 200
            eventually(lambda before=before: running.pid("web") != before)  # type: ignore[misc]


def test_a_service_whose_worker_shows_no_sign_of_life_is_not_ready(services: ServiceFixture) -> None:
    heartbeats = Heartbeats()
    operators.add(services.ctx, services.caller, NewOperator("edmund.sallow", SUPER_ADMINISTRATOR), PASSWORD)
    http = create_app(services.ctx, "http://127.0.0.1:1", heartbeats).test_client()
    assert http.get("/readyz").status_code == 200
    heartbeats._numbers[0] -= 2 * LATE_SECONDS
    answer = http.get("/readyz")
    assert answer.status_code == 503 and "does not respond (work)" in answer.get_data(as_text=True)
    text = "\n".join(as_text(of_worker(heartbeats)))
    assert (
        re.search(r'dravo_worker_heartbeat_age_seconds\{loop="work"\} 6\d', text)
        and 'dravo_worker_errors{kind="job"} 0' in text
    )


def test_a_worker_that_shows_no_sign_of_life_is_ended_and_what_ends_again_and_again_waits_longer(
    tmp_path: Path,
) -> None:
    watched = Service(tmp_path, ServiceAddress("127.0.0.1", free_port()))
    child = multiprocessing.get_context("fork").Process(target=time.sleep, args=(600,))
    child.start()
    watched._check_alive("worker", child)
    assert child.is_alive()
    watched.heartbeats._numbers[1] -= 2 * LOST_SECONDS
    watched._check_alive("web", child)
    assert child.is_alive()
    watched._check_alive("worker", child)
    assert not child.is_alive()
    pauses = []
    for lived in (0, 1, 2, 3, 100, 1):
        watched._started_at["worker"] = time.monotonic() - lived
        watched._plan_restart("worker", child)
        pauses.append(round(watched._again_at["worker"] - time.monotonic()))
    assert pauses == [0, 1, 2, 4, 0, 0]


def test_many_idle_connections_block_no_request(tmp_path: Path) -> None:
    resource.setrlimit(
        resource.RLIMIT_NOFILE,
        (
            min(4_096, resource.getrlimit(resource.RLIMIT_NOFILE)[1]),
            resource.getrlimit(resource.RLIMIT_NOFILE)[1],
        ),
    )
    with service(tmp_path) as running, contextlib.ExitStack() as idle:
        for _ in range(1_000):
            idle.enter_context(socket.create_connection(("127.0.0.1", running.port)))
        # A request that waits for them would wait until they are closed, after IDLE_SECONDS.
        patience = IDLE_SECONDS - 5
        assert httpx.get(f"{running.url}/healthz", trust_env=False, timeout=patience).status_code == 200


@pytest.mark.parametrize(
    "path",
    [
        "/../../etc/passwd",
        "/../../etc/nothing-of-that-name",
        "/assets/../../app.py",
        "/%2e%2e/%2e%2e/app.py",
        f"/{'x' * 300}",
    ],
)
def test_no_path_tells_what_lies_in_the_file_system(running: Running, path: str) -> None:
    with socket.create_connection(("127.0.0.1", running.port)) as connection:
        connection.sendall(f"GET {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n".encode())
        answer = connection.makefile("rb").read().decode()
    # Whatever it is, it is a page that the console knows or does not know.
    assert answer.startswith("HTTP/1.1 200 OK") and '<div id="app">' in answer


def test_only_what_was_set_up_is_served(tmp_path: Path) -> None:
    with pytest.raises(NoInstallation, match="The folder '") as refused:
        serve(tmp_path / "wrong", "127.0.0.1", free_port())
    assert "dravo init --data" in refused.value.hint
    assert not (tmp_path / "wrong").exists()


def test_a_missing_key_and_a_damaged_or_newer_database_are_explained(tmp_path: Path) -> None:
    set_up(tmp_path)
    key = (tmp_path / KEY_FILE).read_text()
    (tmp_path / KEY_FILE).unlink()
    with pytest.raises(DravoError, match="no key"):
        serve(tmp_path, "127.0.0.1", free_port())
    assert not (tmp_path / KEY_FILE).exists()
    (tmp_path / KEY_FILE).write_text(key)
    with sqlite3.connect(tmp_path / FILE_NAME) as database:
        database.execute("UPDATE alembic_version SET version_num = '9999'")
    with pytest.raises(NotReadable, match="' was written by a newer version of Dravo"):
        serve(tmp_path, "127.0.0.1", free_port())
    for file in tmp_path.glob(f"{FILE_NAME}*"):
        file.unlink()
    (tmp_path / FILE_NAME).write_bytes(b"this is no database, whatever it is called" * 100)
    with pytest.raises(NotReadable, match="damaged"):
        serve(tmp_path, "127.0.0.1", free_port())


def test_a_copy_of_the_database_alone_has_what_was_written(tmp_path: Path) -> None:
    def operators_in(copy: Path) -> list[str]:
        with sqlite3.connect(copy) as database:
            return [name for (name,) in database.execute('SELECT name FROM "operator" ORDER BY name')]

    with service(tmp_path / "data") as running:
        with running.dravo as dravo:
            dravo.operators.add("hazel.marlow", "auditor")
        ctx = AppContext(running.folder)
        ctx.database.checkpoint()
        shutil.copy(running.folder / FILE_NAME, tmp_path / "during")
        ctx.close()
        with running.dravo as dravo:
            dravo.operators.add("wren.halliday", "auditor")
    shutil.copy(running.folder / FILE_NAME, tmp_path / "after")
    assert operators_in(tmp_path / "during") == ["edmund.sallow", "hazel.marlow"]
    assert operators_in(tmp_path / "after") == ["edmund.sallow", "hazel.marlow", "wren.halliday"]


def test_a_service_whose_records_cannot_be_written_is_not_ready(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    operators.add(services.ctx, services.caller, NewOperator("edmund.sallow", SUPER_ADMINISTRATOR), PASSWORD)
    http = create_app(services.ctx, "http://127.0.0.1:1").test_client()
    assert http.get("/readyz").status_code == 200

    def full() -> None:
        raise StorageFailing("The database cannot be written: database or disk is full.")

    monkeypatch.setattr(services.ctx.database, "check_writable", full)
    answer = http.get("/readyz")
    assert answer.status_code == 503 and "disk is full" in answer.get_data(as_text=True)


def limit_files(process: psutil.Process, size: int) -> None:
    """Let the processes of a service write no file beyond so many bytes, as on a disk without room."""
    for each in (process, *process.children()):
        _, hard = resource.prlimit(each.pid, resource.RLIMIT_FSIZE)
        resource.prlimit(each.pid, resource.RLIMIT_FSIZE, (size if size >= 0 else hard, hard))


def test_processes_recover_from_a_full_disk(
    tmp_path: Path,
) -> None:
    with service(tmp_path) as running:
        assert running.process is not None
        serving = psutil.Process(running.process.pid)
        before = {each.pid for each in serving.children()}
        limit_files(serving, 0)
        for each in serving.children():
            each.kill()
        # Neither can its log be written, nor the file with the numbers of its processes, nor can they open
        # the records.
        seen: set[int] = set()
        eventually(lambda: seen.update(each.pid for each in serving.children()) or len(seen - before) >= 2)
        limit_files(serving, -1)
        eventually(lambda: answers(f"{running.url}/readyz"))
        with running.dravo as dravo:
            dravo.sources.add("later", "Later")
        began = time.monotonic()
        serving.send_signal(signal.SIGTERM)
        running.process.wait(40)
        assert time.monotonic() - began < 10, "it ends within ten seconds, as it promises"
        running.process = None


def test_a_nearly_full_disk_is_reported(services: ServiceFixture, monkeypatch: pytest.MonkeyPatch) -> None:
    operators.add(services.ctx, services.caller, NewOperator("edmund.sallow", SUPER_ADMINISTRATOR), PASSWORD)
    http = create_app(services.ctx, "http://127.0.0.1:1").test_client()
    assert http.get("/readyz").status_code == 200
    monkeypatch.setattr(
        "dravo.store.database.shutil.disk_usage",
        lambda _: shutil._ntuple_diskusage(10**9, 10**9 - 1_000, 1_000),
    )
    answer = http.get("/readyz")
    assert answer.status_code == 503
    assert "1,000 bytes" in answer.json["reason"]
