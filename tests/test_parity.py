"""What the API can do, the client, the command line and the console can do, in the same words.

Read from the OpenAPI document, the client's methods, the commands and the console's sources. What is missing
has a reason.
"""

from __future__ import annotations

import argparse
import ast
import inspect
import json
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

import httpx

from dravo.cli.main import MODULES, command_of, make_parser
from dravo.client import Dravo
from dravo.client.resource import Noun
from tests.test_texts import actions

ROOT = Path(__file__).parents[1]
DOCUMENT: dict[str, Any] = json.loads((ROOT / "console/openapi.json").read_text())
PREFIX = "/api/v1"
Operation = tuple[str, str]

BROWSER = "belongs to the session of a browser; programs have tokens"
ITS_USER = "belongs to a signed-in user, who has no API token"


@cache
def operations() -> dict[Operation, dict[str, Any]]:
    """Return the operations of the API by method and path."""
    return {
        (method.upper(), path.removeprefix(PREFIX)): operation
        for path, methods in DOCUMENT["paths"].items()
        for method, operation in methods.items()
    }


def template_of(method: str, path: str) -> Operation | None:
    """Return the operation of a call; a path with fewer places is preferred."""
    fitting = [
        (method, known)
        for known_method, known in operations()
        if known_method == method and re.fullmatch(re.sub(r"{\w+}", "[^/]+", known), path)
    ]
    return min(fitting, key=lambda each: each[1].count("{"), default=None)


# The client


def argument(parameter: inspect.Parameter) -> Any:
    """Return a value for a parameter of a client's method, by its annotation."""
    wanted = str(parameter.annotation)
    for part, value in (
        ("Mapping", {"x": "x"}),
        ("dict", {"x": "x"}),
        ("Iterable[t.", [{"id": "x", "version": 1}]),
        ("Sequence", ["x"]),
        ("Iterable", ["x"]),
        ("bytes", b"x"),
        ("int", 1),
        ("bool", True),
    ):
        if part in wanted:
            return value
    return "x"


def calls_of(method: Any, seen: list[httpx.Request]) -> list[httpx.Request]:
    """Call a method of the client with some values; return the requests that it made."""
    seen.clear()
    required = {
        name: argument(each)
        for name, each in inspect.signature(method).parameters.items()
        if each.default is inspect.Parameter.empty
        and each.kind not in (inspect.Parameter.VAR_KEYWORD, inspect.Parameter.VAR_POSITIONAL)
    }
    try:
        found = method(**required)
        if inspect.isgenerator(found) or hasattr(found, "__next__") or hasattr(found, "__iter__"):
            list(found)
    except (KeyError, TypeError, AttributeError, ValueError):
        # The response has no such value; the request was made.
        pass
    return list(seen)


@cache
def of_client() -> dict[str, frozenset[Operation]]:
    """Return the operations that each method of the client calls, by its name such as "users.get"."""
    seen: list[httpx.Request] = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        body = {"items": [], "total": 0, "next": None, "number": 1, "settled": True, "id": "x"}
        return httpx.Response(200, json=body)

    dravo = Dravo("http://127.0.0.1:1", "token")
    dravo._http = httpx.Client(base_url=f"http://127.0.0.1:1{PREFIX}", transport=httpx.MockTransport(answer))
    nouns = {name: each for name, each in vars(dravo).items() if isinstance(each, Noun)}
    found: dict[str, frozenset[Operation]] = {}
    for noun, holder in [("", dravo), *nouns.items()]:
        for name, method in inspect.getmembers(holder, inspect.ismethod):
            if name.startswith("_") or (not noun and name in ("call", "pages", "stream", "close", "watched")):
                continue
            called = {
                template_of(each.method, each.url.path.removeprefix(PREFIX))
                for each in calls_of(method, seen)
            }
            found[f"{noun}.{name}".lstrip(".")] = frozenset(each for each in called if each is not None)
    return found


NOT_IN_CLIENT: dict[Operation, str] = {
    **dict.fromkeys(
        (
            ("GET", "/session"),
            ("POST", "/session"),
            ("DELETE", "/session"),
            ("GET", "/session/others"),
            ("DELETE", "/session/others"),
            ("PUT", "/session/links"),
            ("PUT", "/session/password"),
            ("GET", "/second-factor"),
            ("POST", "/second-factor"),
            ("PUT", "/second-factor"),
            ("POST", "/session/passkey"),
            ("POST", "/second-factor/disable"),
            ("POST", "/second-factor/passkeys"),
            ("POST", "/second-factor/passkeys/ask"),
            ("POST", "/second-factor/passkeys/begin"),
            ("POST", "/second-factor/passkeys/{id}/delete"),
            ("POST", "/recovery-codes"),
        ),
        BROWSER,
    ),
    **dict.fromkeys(
        (
            ("GET", "/sign-in"),
            ("POST", "/sign-in/code"),
            ("POST", "/sign-in/code/verify"),
            ("GET", "/me/applications"),
            ("GET", "/me/applications/{key}/icon"),
            ("GET", "/me/requests"),
            ("POST", "/me/requests"),
            ("DELETE", "/me/requests/{id}"),
            ("DELETE", "/me/session"),
            ("GET", "/me/security"),
            ("PUT", "/me/password"),
            ("POST", "/me/second-factor"),
            ("PUT", "/me/second-factor"),
            ("POST", "/me/second-factor/disable"),
            ("POST", "/me/passkeys"),
            ("POST", "/me/passkeys/ask"),
            ("POST", "/me/passkeys/begin"),
            ("POST", "/me/passkeys/{id}/delete"),
            ("POST", "/me/recovery-codes"),
            ("POST", "/invitation/open"),
            ("POST", "/invitation/accept"),
            ("POST", "/invitation/accept-with-source"),
            ("POST", "/sign-in/password"),
            ("POST", "/sign-in/password/passkey"),
            ("POST", "/sign-in/password/factor"),
            ("POST", "/sign-in/password/new"),
            ("POST", "/sign-in/password/forgotten"),
            ("POST", "/sign-in/password/reset"),
        ),
        ITS_USER,
    ),
    ("GET", "/jobs/{id}"): "`watched` asks for it while another call runs",
    ("DELETE", "/jobs/{id}"): "a program that stops waiting closes its connection",
}


def test_the_client_has_a_method_for_every_operation() -> None:
    called = frozenset().union(*of_client().values())
    missing = operations().keys() - called - NOT_IN_CLIENT.keys()
    assert sorted(missing) == []
    assert sorted(NOT_IN_CLIENT.keys() & called) == [], "these are in the client by now"


def test_every_method_of_the_client_calls_an_operation() -> None:
    assert [name for name, called in of_client().items() if not called] == []


# The command line


@cache
def used_by_commands() -> frozenset[str]:
    """Return the methods of the client that commands name, such as "users.get"."""
    found = set()
    for file in (ROOT / "src/dravo/cli").rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text())):
            if isinstance(node, ast.Attribute):
                inner = node.value
                if isinstance(inner, ast.Attribute) and isinstance(inner.value, ast.Name):
                    found.add(f"{inner.attr}.{node.attr}")
                elif isinstance(inner, ast.Name) and inner.id == "dravo":
                    found.add(node.attr)
    return frozenset(found)


def test_commands_use_every_method_of_the_client() -> None:
    assert sorted(of_client().keys() - used_by_commands()) == []


# They start or set up a service on this computer, and call none.
LOCAL = ("demo", "init", "serve")


def test_every_command_prints_the_answer_as_json() -> None:
    commands = {path for path, _ in actions(make_parser()) if len(path) > 1 and path[0] not in LOCAL}
    with_json = {path for path, action in actions(make_parser()) if "--json" in action.option_strings}
    assert sorted(commands - with_json) == []


def of_command(parser: argparse.ArgumentParser, command: str) -> list[tuple[Any, ...]]:
    return [
        (path, action.dest, action.option_strings)
        for path, action in actions(parser)
        if path[:1] == (command,)
    ]


def test_a_command_is_understood_by_the_parser_of_it_alone_as_by_that_of_all() -> None:
    of_all = make_parser()
    for command in MODULES:
        assert of_command(of_all, command) == of_command(make_parser(command), command) != []


def test_the_parser_of_all_has_no_command_beside_the_listed_ones() -> None:
    assert {path[0] for path, _ in actions(make_parser()) if path} == {*MODULES, *LOCAL}


def test_the_command_is_the_first_word_that_is_not_an_option_or_its_value() -> None:
    assert command_of(["--url", "http://user", "source", "list"]) == "source"
    assert command_of(["--connection=user", "source", "list"]) == "source"
    assert command_of(["--conn", "user", "source", "list"]) == "source"
    assert command_of(["--version"]) is None


# The console


@cache
def console_sources() -> str:
    files = (ROOT / "console/src").rglob("*")
    return "\n".join(
        each.read_text() for each in files if each.suffix in (".vue", ".ts") and each.name != "schema.d.ts"
    )


@cache
def of_console() -> frozenset[Operation]:
    """Return the operations that the console's sources call, or to which they link."""
    text = console_sources()
    found = {
        template_of(method, re.sub(r"\$?{[^}]*}", "x", path))
        for method, path in re.findall(
            r"api\s*\.(GET|POST|PUT|PATCH|DELETE)\(\s*[`']/api/v1([^`']*)[`']", text
        )
    }
    # Downloads and images are links.
    for path in re.findall(r"[`'\"]/api/v1(/[^`'\"?]*)", text):
        found.add(template_of("GET", re.sub(r"\$?{[^}]*}", "x", path.removesuffix("${query}"))))
    # A template literal with a choice calls each of its operations.
    for method, path in re.findall(r"api\s*\.(POST)\(\s*`/api/v1([^`]*\$\{action\}[^`]*)`", text):
        for action in ("pause", "resume"):
            found.add(template_of(method, path.replace("${action}", action).replace("{key}", "x")))
    return frozenset(each for each in found if each is not None)


IN_THE_LIST = "the list that the console reads has the same values"
AS_FILE = "data files are written in an editor, and saved by a command"
BY_MISTAKE = "undoes a setup made by mistake, by a command; the console retires sources and disables sign-in"
NOT_IN_CONSOLE: dict[Operation, str] = {
    ("GET", "/access/requests/{id}"): IN_THE_LIST,
    ("GET", "/accounts/{id}"): IN_THE_LIST,
    ("GET", "/reconciliation/runs/{id}"): IN_THE_LIST,
    ("GET", "/sources/{key}/import/runs/{run}"): IN_THE_LIST,
    ("POST", "/applications/{key}/drift/repair/preview"): IN_THE_LIST,
    ("GET", "/application-templates/schema"): AS_FILE,
    ("GET", "/application-templates/{key}"): AS_FILE,
    ("PUT", "/application-templates/{key}"): AS_FILE,
    ("DELETE", "/application-templates/{key}"): AS_FILE,
    ("DELETE", "/sources/{key}"): BY_MISTAKE,
    ("DELETE", "/sources/{key}/import"): BY_MISTAKE,
    ("DELETE", "/sources/{key}/sign-in"): BY_MISTAKE,
    ("POST", "/applications/{key}/password-check"): "called by applications with a sign-in form of their own",
    ("GET", "/audit"): "the activity shows the same changes; auditors export the log by a command",
    ("GET", "/audit/verify"): "auditors verify the log by a command, outside the service's own pages",
    ("GET", "/provisioning/summary"): "pipelines wait with it; the console's band shows the numbers",
    ("GET", "/me/applications/{key}/icon"): "built from parts in ApplicationIcon.vue",
    ("GET", "/sources/{key}/policy"): "the page of the source has the policy",
    ("GET", "/sources/{key}/left-out"): "listed by a command only",
    ("POST", "/sources/{key}/sign-in/preview"): "previewed by a command only; the console tests a sign-in",
    ("POST", "/sources/{key}/sign-in/status/preview"): "previewed by a command only",
}


def test_the_console_calls_every_operation() -> None:
    missing = operations().keys() - of_console() - NOT_IN_CONSOLE.keys()
    assert sorted(missing) == []
    assert sorted(NOT_IN_CONSOLE.keys() & of_console()) == [], "the console calls these by now"


# Fields


def fields_of(operation: dict[str, Any]) -> Iterator[str]:
    """Yield the writable fields of an operation, by name."""
    content = operation.get("requestBody", {}).get("content", {}).get("application/json", {})
    yield from _names(content.get("schema", {}))


def _names(schema: dict[str, Any]) -> Iterator[str]:
    if "$ref" in schema:
        schema = DOCUMENT["components"]["schemas"][schema["$ref"].rsplit("/", 1)[1]]
    for name, field in schema.get("properties", {}).items():
        yield name
        inner = [field, *field.get("anyOf", ()), field.get("items", {})]
        for each in inner:
            if "$ref" in each:
                yield from _names(each)


@cache
def options() -> frozenset[str]:
    """Return the names of all options and arguments, as the API writes them."""
    names = set()
    for _, action in actions(make_parser()):
        names.add(action.dest.strip("_"))
        names |= {each.lstrip("-").replace("-", "_") for each in action.option_strings}
    return frozenset(names)


NUMBERS = "the numbers of a preview: a command previews and applies in two runs, with `--confirm`"
NOT_AN_OPTION: dict[str, str] = {
    **dict.fromkeys(("expect", "gained", "lost", "changed"), NUMBERS),
    **dict.fromkeys(("credential", "only_by_source", "passkey", "present", "revoke_tokens"), BROWSER),
    **dict.fromkeys(("back", "code", "confirm_weak", "sign_in_test", "state"), ITS_USER),
    **dict.fromkeys(("password", "secret", "token"), "typed, or read from standard input"),
    **dict.fromkeys(("content", "document", "private_key"), "read from the file that an argument names"),
    **dict.fromkeys(("add", "remove", "add_groups", "remove_groups"), "set by `group add`, `remove`"),
    "auth": "set by `--user`, `--client-id` and `--ca`",
    "base_url": "the argument `address`",
    "fields": "set by the options of the parts of metadata, such as `--entity-id`",
    "found": "set by `--there`",
    "remote_id": "set by `--there`",
    "gives": "read from a file by `source set-policy`",
    "groups_from": "set by the options for groups of `source set-policy` and `sign-in set-policy`",
    "ignored": "set by `--no-longer`",
    "look": "set by `--refresh-metadata`",
    "makes": "set by `--create-users`",
    "mode": "set by `--create`",
    "provisioned_groups": "set by `--groups`",
    "settings": "set by `--set`",
    "sign_in": "set by `--address`",
    "sign_out": "set by the options of the parts of metadata",
    "tasks": "set by `--id`",
    "way": "set by `--role-encoding` and `--plan-encoding`",
    "what": "chosen by the command",
}
NOT_A_FORM_FIELD: dict[str, str] = {}


def writable() -> set[str]:
    return {name for operation in operations().values() for name in fields_of(operation)}


def test_every_writable_field_has_an_option() -> None:
    missing = {
        name for name in writable() if not {name, name.rstrip("s"), f"{name}s", f"no_{name}"} & options()
    } - NOT_AN_OPTION.keys()
    assert sorted(missing) == []
    assert sorted(NOT_AN_OPTION.keys() - writable()) == []


def test_every_writable_field_has_a_form_field() -> None:
    words = set(re.findall(r"\w+", console_sources()))
    missing = writable() - words - NOT_A_FORM_FIELD.keys()
    assert sorted(missing) == []
    assert sorted(NOT_A_FORM_FIELD.keys() - writable()) == []
