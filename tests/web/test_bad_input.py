"""Generated input to every route: whatever is sent, the answer is never a 5xx, and always in the form that
its API promises.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from dravo.core.scim.schemas import ENTERPRISE_URN
from dravo.services.security import api_tokens, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR, Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sources import tokens as scim_tokens
from dravo.web.app import create_app
from tests.scale import sized
from tests.service_fixture import ServiceFixture

EASY = settings(suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])


@dataclass
class Web:
    """A web application without a server around it, its tokens, somebody and a group in it."""

    http: Any
    document: dict[str, Any]
    api: dict[str, str]
    push: dict[str, str]
    user: str
    group: str


@pytest.fixture(scope="module")
def web(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Web]:
    services = ServiceFixture(tmp_path_factory.mktemp("bad-input"))
    staff = services.source()
    user = services.user(
        staff, "ada", title="Botanist", emails=[{"value": "ada@fernhollow.example", "type": "work"}]
    )
    group = services.group(staff, "Herbarium", user)
    services.application()
    app = create_app(services.ctx, "http://127.0.0.1:1")
    app.config.update(TOKEN_LIMITER=RateLimiter(10**6, 60), SIGN_IN_LIMITER=RateLimiter(10**6, 60))
    made = operators.add(services.ctx, services.caller, NewOperator("edmund", SUPER_ADMINISTRATOR))
    token = api_tokens.create(
        services.ctx, Caller(made.id, "edmund", SUPER_ADMINISTRATOR), "x", "write"
    ).token
    push = scim_tokens.add_token(services.ctx, services.caller, "staff", "x").token
    document = app.api_doc  # type: ignore[attr-defined]
    yield Web(
        app.test_client(),
        document,
        {"Authorization": f"Bearer {token}"},
        {"Authorization": f"Bearer {push}"},
        user,
        group,
    )
    services.ctx.close()


TEXTS = st.one_of(
    st.text(max_size=12),
    st.sampled_from(
        [
            "",
            "ada",
            "true",
            "\x00",
            "\ud800",
            "a" * 300,
            "../..",
            "' OR 1=1 --",
            "%",
            "2031-04-02T09:15:00Z",
            "-1",
            "99999999999999999999",
            "[]",
        ]
    ),
)
VALUES = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-(2**70), 2**70)
    | st.floats(allow_nan=False, allow_infinity=False)
    | TEXTS,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(TEXTS, inner, max_size=3),
    max_leaves=8,
)
NAMES = st.sampled_from(
    [
        "userName",
        "USERNAME",
        "name",
        "name.givenName",
        "emails",
        "active",
        "displayName",
        "members",
        "schemas",
        "externalId",
        "id",
        "meta",
        "groups",
        "password",
        ENTERPRISE_URN,
        f"{ENTERPRISE_URN}:manager",
        "x509Certificates",
        "addresses",
        "value",
        "type",
        "primary",
        "unknown",
    ]
)
RESOURCES = st.dictionaries(NAMES, VALUES, max_size=5)
PATHS = st.one_of(
    NAMES,
    TEXTS,
    st.sampled_from(['emails[type eq "work"].value'] * 2),
    st.sampled_from(
        ['emails[type eq "fax"]', "members[value pr]", 'members[value eq "x"]', "emails[", "name.", "a.b.c"]
    ),
)
OPERATIONS = st.lists(
    st.fixed_dictionaries(
        {"op": st.sampled_from(["add", "Replace", "remove", "move"])},
        optional={"path": PATHS, "value": VALUES | RESOURCES},
    ),
    min_size=1,
    max_size=3,
)
FILTERS = st.one_of(
    TEXTS,
    PATHS.map(lambda path: f"{path} pr"),
    st.tuples(PATHS, st.sampled_from(["eq", "ne", "co", "gt", "le", "xx"]), VALUES).map(
        lambda three: f"{three[0]} {three[1]} {json.dumps(three[2])}"
    ),
)


def sent(body: Any) -> bytes:
    return json.dumps(body).encode("utf-8", "surrogatepass")


def scim_answer(answer: Any) -> None:
    assert answer.status_code < 500, answer.text
    if answer.status_code >= 400:
        assert answer.json["schemas"] == ["urn:ietf:params:scim:api:messages:2.0:Error"]
        assert answer.json["status"] == str(answer.status_code)
        assert answer.json["detail"]


@EASY
@given(
    body=RESOURCES | VALUES,
    method=st.sampled_from(["POST", "PUT"]),
    kind=st.sampled_from(["Users", "Groups"]),
)
def test_a_resource_of_any_shape(web: Web, body: Any, method: str, kind: str) -> None:
    path = f"/scim/v2/staff/{kind}" + (
        "" if method == "POST" else f"/{web.user if kind == 'Users' else web.group}"
    )
    scim_answer(web.http.open(path, method=method, data=sent(body), headers=web.push))


@EASY
@given(operations=OPERATIONS, kind=st.sampled_from(["Users", "Groups"]))
def test_a_patch_of_any_shape(web: Web, operations: Any, kind: str) -> None:
    path = f"/scim/v2/staff/{kind}/{web.user if kind == 'Users' else web.group}"
    answer = web.http.patch(path, data=sent({"Operations": operations}), headers=web.push)
    scim_answer(answer)
    if answer.status_code < 300:
        read = web.http.get(path, headers=web.push)
        assert read.status_code == 200, "what was taken can be read back"


@EASY
@given(text=FILTERS, kind=st.sampled_from(["Users", "Groups"]), start=TEXTS, count=TEXTS, attributes=TEXTS)
def test_a_query_of_any_shape(
    web: Web, text: str, kind: str, start: str, count: str, attributes: str
) -> None:
    query = {"filter": text, "startIndex": start, "count": count, "attributes": attributes}
    encoded = {name: value.encode("utf-8", "replace").decode() for name, value in query.items()}
    scim_answer(web.http.get(f"/scim/v2/staff/{kind}", query_string=encoded, headers=web.push))


@EASY
@given(
    content=st.binary(max_size=40),
    kind=st.sampled_from(["Users", "Groups", "Users/x", "Bulk", ".search", "ServiceProviderConfig"]),
)
def test_bytes_of_any_kind(web: Web, content: bytes, kind: str) -> None:
    for method in ("POST", "PUT", "PATCH", "DELETE"):
        scim_answer(web.http.open(f"/scim/v2/staff/{kind}", method=method, data=content, headers=web.push))


@EASY
@given(
    token=st.text(st.characters(codec="latin-1", exclude_categories=["Cc"]), max_size=30),
    scheme=st.sampled_from(["Bearer ", "bearer ", "Basic ", ""]),
)
def test_a_token_of_any_kind(web: Web, token: str, scheme: str) -> None:
    for path in ("/scim/v2/staff/Users", "/scim/v2/none/Users", "/api/v1/users"):
        answer = web.http.get(path, headers={"Authorization": scheme + token})
        assert answer.status_code in (401, 429), answer.text


@EASY
@given(
    source=st.one_of(TEXTS, st.sampled_from(["a\r\nSet-Cookie: x=1", '"', "staff\n", "é", "staff/../staff"])),
    rest=TEXTS,
)
def test_a_source_of_any_name(web: Web, source: str, rest: str) -> None:
    path = f"/scim/v2/{quote(source, errors='replace')}/{quote(rest, errors='replace')}"
    answer = web.http.get(path)
    assert answer.status_code in (401, 404, 308, 429), answer.text
    assert "Set-Cookie" not in answer.headers


def bodies(web: Web, method: str, path: str) -> Any:
    """Return a strategy for bodies near what a route takes."""
    operation = web.document["paths"][path][method]
    if "requestBody" not in operation:
        return st.none()
    reference = next(iter(operation["requestBody"]["content"].values()))["schema"]["$ref"]
    fields = list(web.document["components"]["schemas"][reference.rpartition("/")[2]]["properties"])
    return st.dictionaries(st.sampled_from([*fields, "unknown"]), VALUES, max_size=len(fields)) | VALUES


@settings(
    max_examples=sized(80, 5_000),
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(data=st.data())
def test_every_route_of_the_management_api(web: Web, data: st.DataObject) -> None:
    walked = [(method, path) for path, methods in web.document["paths"].items() for method in methods]
    # Connecting and checking would call out; they have tests of their own.
    method, path = data.draw(st.sampled_from([each for each in walked if "connection" not in each[1]]))
    filled = path
    for name in ("key", "id", "role", "token_id", "user", "application"):
        if f"{{{name}}}" in filled:
            value = data.draw(st.sampled_from(["records", "staff", "viewer", "ada", "none"]) | TEXTS)
            filled = filled.replace(
                f"{{{name}}}",
                value.encode("utf-8", "replace").decode().replace("/", "").replace("?", "") or "x",
            )
    query = data.draw(
        st.dictionaries(
            st.sampled_from(
                ["after", "count", "q", "status", "source", "application", "user", "ended", "confirm"]
            ),
            TEXTS,
            max_size=3,
        )
    )
    encoded = {name: value.encode("utf-8", "replace").decode() for name, value in query.items()}
    body = data.draw(bodies(web, method, path))
    headers = {**web.api, "Content-Type": "application/json"}
    answer = web.http.open(
        filled,
        method=method.upper(),
        query_string=encoded,
        data=None if body is None else sent(body),
        headers=headers,
    )
    assert answer.status_code < 500, (method, filled, encoded, body, answer.text)
    if answer.status_code >= 400:
        assert answer.json["error"]["message"], answer.text
