from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pytest

from dravo.core.errors import InvalidInput
from dravo.demo.http_server import Answer, Call, make_server
from dravo.demo.support import free_port
from dravo.protocols import addresses, http_client
from dravo.protocols.addresses import AddressNotAllowed, Unreachable
from dravo.protocols.http_client import Client, Connection, Request, repair_address
from dravo.protocols.scim_client.connection_test import CheckResult, check_connection


@contextmanager
def server(handle: Callable[[Call], Answer]) -> Iterator[str]:
    port = free_port()
    running = make_server("127.0.0.1", port, handle)
    threading.Thread(target=running.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{port}"
    finally:
        running.shutdown()
        running.server_close()


@pytest.mark.parametrize(
    ("text", "repaired"),
    [
        (" https://records.example/scim/v2/ ", "https://records.example/scim/v2"),
        ('"https://records.example/scim/v2"', "https://records.example/scim/v2"),
        ("https://records.example/scim/v2/Users", "https://records.example/scim/v2"),
        ("HTTPS://Records.example:8443", "https://records.example:8443"),
    ],
)
def test_a_small_slip_in_an_address_is_fixed(text: str, repaired: str) -> None:
    assert repair_address(text) == repaired


@pytest.mark.parametrize(
    "text",
    [
        "records.example",
        "ftp://x.example",
        "https://u:p@x.example",
        "https://x.example/?a=b",
        "https://",
        "https://x:99999999",
        "",
    ],
)
def test_an_address_that_cannot_be_used_is_refused_with_the_hint(text: str) -> None:
    with pytest.raises(InvalidInput) as told:
        repair_address(text)
    assert told.value.hint


# Metadata services outside of the link-local range, and one behind each way of writing IPv4 within IPv6.
METADATA = (
    "100.100.100.200",
    "168.63.129.16",
    "[fd00:ec2::254]",
    "[64:ff9b::a9fe:a9fe]",
    "[2002:a9fe:a9fe::1]",
    "[::ffff:100.100.100.200]",
)


@pytest.mark.parametrize(
    "host", ["127.0.0.1", "127.8.8.8", "[::1]", "[::ffff:127.0.0.1]", "localhost", "[64:ff9b::7f00:1]"]
)
def test_this_machine_is_called_only_if_that_was_allowed_at_the_start(host: str) -> None:
    call = (Connection(f"http://{host}:{free_port()}", "secret"), Request("GET", "/Users"))
    addresses.allow_loopback(allowed=False)
    try:
        with pytest.raises(AddressNotAllowed, match="this machine") as refused:
            Client().send(*call)
        assert "--allow-loopback" in refused.value.hint
    finally:
        addresses.allow_loopback()
    if host != "[64:ff9b::7f00:1]":
        with pytest.raises(Unreachable):
            Client().send(*call)


@pytest.mark.parametrize(
    "host", ["169.254.169.254", "[fe80::1]", "0.0.0.0", "[::ffff:169.254.169.254]", "224.0.0.1", *METADATA]
)
def test_link_local_and_other_strange_addresses_are_never_called(host: str) -> None:
    with pytest.raises(AddressNotAllowed):
        Client().send(Connection(f"https://{host}", "secret"), Request("GET", "/Users"))


def test_a_token_is_sent_over_plain_http_only_to_loopback(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(addresses.socket, "getaddrinfo", lambda *_, **__: [(2, 1, 6, "", ("192.0.2.7", 80))])
    with pytest.raises(AddressNotAllowed, match="' is another machine"):
        Client().send(Connection("http://records.example", "secret"), Request("GET", "/Users"))


def test_a_name_cannot_point_elsewhere_between_check_and_call(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []
    seen: list[str] = []

    def resolve(host: str, port: int, *_: object, **__: object) -> list[object]:
        if host == "records.example":
            asked.append(host)
            return [(2, 1, 6, "", ("127.0.0.1" if len(asked) == 1 else "169.254.169.254", port))]
        return [(2, 1, 6, "", (host, port))]

    def handle(call: Call) -> Answer:
        seen.append(call.headers["Host"])
        return Answer(200, {"ok": True})

    with server(handle) as url:
        port = url.rpartition(":")[2]
        monkeypatch.setattr(addresses.socket, "getaddrinfo", resolve)
        Client().send(Connection(f"http://records.example:{port}", "secret"), Request("GET", "/Users"))
    assert len(asked) == 1
    assert seen == [f"records.example:{port}"]


def test_a_redirect_is_not_followed_so_no_token_follows_it() -> None:
    with server(lambda call: Answer(302, headers={"Location": "http://127.0.0.1:1/"})) as url:
        response = Client().send(Connection(url, "secret"), Request("GET", "/Users"))
    assert (response.status, response.location) == (302, "http://127.0.0.1:1/")


def test_an_answer_without_end_is_cut_off(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(http_client, "LARGEST_ANSWER", 10_000)
    with server(lambda call: Answer(200, "x" * 50_000)) as url, pytest.raises(Unreachable, match="larger"):
        Client().send(Connection(url, "secret"), Request("GET", "/Users"))


def test_a_lost_reply_differs_from_a_failed_connection() -> None:
    with pytest.raises(Unreachable) as never:
        Client().send(
            Connection(f"http://127.0.0.1:{free_port()}", "secret"), Request("POST", "/Users", body={})
        )
    with server(lambda call: Answer(cut=True)) as url, pytest.raises(Unreachable) as lost:
        Client().send(Connection(url, "secret"), Request("POST", "/Users", body={}))
    assert (never.value.sent, lost.value.sent) == (False, True)


def test_a_connection_shows_no_secret() -> None:
    assert "secret" not in repr(Connection("https://records.example", "secret"))


def scim(call: Call) -> Answer:
    if not call.path.startswith("/scim/v2"):
        return Answer(200, "<!doctype html><p>Sign in</p>", "text/html")
    if call.path.endswith("ServiceProviderConfig"):
        return Answer(
            200,
            {"schemas": ["x"], "patch": {"supported": True}, "filter": {"supported": True, "maxResults": 50}},
        )
    if call.headers["Authorization"] != "Bearer right":
        return Answer(401, {"detail": "No."})
    return Answer(200, {"totalResults": 3, "Resources": []})


def checked(url: str, token: str | None) -> CheckResult:
    client = Client()
    try:
        return check_connection(client, url, lambda: Connection(url, token) if token else None)
    finally:
        client.close()


def test_a_check_before_there_is_a_token_says_not_yet() -> None:
    with server(scim) as url:
        steps = checked(f"{url}/scim/v2", None).steps
    assert [(step.name, step.outcome) for step in steps] == [
        ("Address", "ok"),
        ("Service", "ok"),
        ("Token", "pending"),
        ("Reading", "skipped"),
    ]


def test_the_connection_test_lists_steps_with_hints() -> None:
    with server(scim) as url:
        good = checked(f"{url}/scim/v2", "right")
        wrong_token = checked(f"{url}/scim/v2", "failed")
        page = checked(url, "right")
    assert good.ok
    assert (
        good.capabilities["patch"],
        good.capabilities["bulk"],
        good.capabilities["max_results"],
    ) == (True, False, 50)
    assert [(step.name, step.outcome) for step in wrong_token.steps] == [
        ("Address", "ok"),
        ("Service", "ok"),
        ("Token", "failed"),
        ("Reading", "skipped"),
    ]
    service = page.steps[1]
    assert "web page" in service.message
    assert f"{url}/scim/v2" in service.hint
    nobody = checked(f"http://127.0.0.1:{free_port()}/scim/v2", "right")
    assert [step.outcome for step in nobody.steps] == ["failed", "skipped", "skipped", "skipped"]


def test_https_at_an_http_port_is_explained() -> None:
    with server(lambda _: Answer(200, {})) as address, pytest.raises(Unreachable) as told:
        Client().send(Connection(address.replace("http://", "https://"), "secret"), Request("GET", "/Users"))
    assert "the port does not use TLS; check http:// or https://, and the port" in str(told.value)
    assert "SSL" not in str(told.value) and "_ssl.c" not in str(told.value)
