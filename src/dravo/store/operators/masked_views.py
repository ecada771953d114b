"""What operators read whose view masks names of users or network addresses.

Such an operator reads through a connection with temporary views in place of tables. Everything that lists,
searches, sorts or exports then works on the masked values alone, also the cursors of pages. Nothing is ever
written through these connections.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Iterator, Mapping
from contextvars import ContextVar
from typing import Any

import orjson

from dravo.store.tables.base import metadata

NAMES, NETWORKS = "names", "networks"
HIDDEN = "•••"
# What the present caller's view masks; empty for everything else in the service.
MASKS: ContextVar[frozenset[str]] = ContextVar("masks of the present caller", default=frozenset())

# Words that tell nothing about a user, in details of the audit log.
_KEPT = {"action", "application", "applications", "encoding", "kind", "outcome", "permissions"} | {
    *("plan", "policy", "protocol", "role", "roles", "schedule", "scope", "source", "status", "until")
}
_NAME_ATTRIBUTES = {"username", "displayname", "nickname", "name", "givenname", "familyname", "middlename"}
_ID = re.compile(r"[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}")
_WORD = re.compile(r"\w{3,}")
_ADDRESS = re.compile(
    r"(?<![\w.:])(?:[0-9]{1,3}(?:\.[0-9]{1,3}){3}|[0-9A-Fa-f:]*:[0-9A-Fa-f:]*:[0-9A-Fa-f:.]*)"
)

# The last eight digits of the ID are random: users cannot be told by them, and stay apart.
_TAIL = "substr(id, -8)"
_TEXT = "CASE WHEN {0} IS NULL OR {0} = '' THEN {0} ELSE '" + HIDDEN + "' END"
# By table and column: the masked value.
_OF_NAMES: dict[str, dict[str, str]] = {
    "user": {
        "user_name": f"'user-' || {_TAIL}",
        "user_name_key": f"'user-' || {_TAIL}",
        "display_name": f"'User ' || {_TAIL}",
        # Lists by name become lists by ID, which an index orders.
        "display_name_key": "id",
        "email_key": "NULL",
        "mark_note": _TEXT,
    },
    "trace": {
        "path": "mask_path(path)",
        "query": _TEXT,
        "outcome": _TEXT,
        "effects": "mask_effects(effects)",
        "body": _TEXT,
    },
    "sign_in_trace": {"message": _TEXT, "hint": _TEXT, "name": _TEXT, "raw": _TEXT},
    "test_sign_in": {"user": _TEXT, "user_key": _TEXT},
    "source": {"note": _TEXT},
    "source_observation": {"detail": _TEXT},
    "conflict": {"native_id": _TEXT, "name": _TEXT, "message": _TEXT},
    "run": {"message": _TEXT, "hint": _TEXT},
    "run_entry": {"name": _TEXT, "changes": "mask_texts(changes)", "message": _TEXT},
    "audit": {"details": "mask_texts(details)", "personal": "mask_texts(personal)"},
    "application": {"trouble": _TEXT, "trouble_hint": _TEXT, "note": _TEXT},
    "account": {"remote_id": _TEXT},
    "task": {"message": _TEXT, "hint": _TEXT},
    "task_attempt": {"message": _TEXT},
    "provisioned_group": {"message": _TEXT, "hint": _TEXT},
    "drift": {"remote_id": _TEXT, "name": _TEXT, "message": _TEXT, "hint": _TEXT},
    "assignment": {"note": _TEXT},
    "review": {"note": _TEXT},
    "review_row": {"note": _TEXT},
    "access_request": {"reason": _TEXT, "answer": _TEXT},
    "invitation": {"email": _TEXT},
}
_NETWORK = "mask_networks({0})"
_OF_NETWORKS: dict[str, tuple[str, ...]] = {
    "trace": ("path", "query", "outcome", "body"),
    "sign_in_trace": ("message", "hint", "name", "steps", "received", "result", "raw"),
    "source_observation": ("detail",),
    "source_sign_in": ("trouble",),
    "run": ("message", "hint"),
    "run_entry": ("message",),
    "audit": ("details", "personal"),
    "application": ("trouble", "trouble_hint"),
    "task": ("message", "hint"),
    "task_attempt": ("message", "exchanges"),
    "provisioned_group": ("message", "hint", "exchanges"),
    "drift": ("message", "hint"),
}


def views(masks: frozenset[str]) -> dict[str, str]:
    """Return the select statement of each table of which values are masked.

    Args:
        masks: `NAMES`, `NETWORKS` or both.
    """
    changed: dict[str, dict[str, str]] = {}
    if NAMES in masks:
        changed = {table: dict(columns) for table, columns in _OF_NAMES.items()}
    if NETWORKS in masks:
        for table, texts in _OF_NETWORKS.items():
            for column in texts:
                changed.setdefault(table, {}).setdefault(column, _NETWORK)
    return {table: _select(table, values) for table, values in changed.items()}


def _select(table: str, values: Mapping[str, str]) -> str:
    columns = ", ".join(
        f'{values[name].format(name)} AS "{name}"' if name in values else f'"{name}"'
        for name in metadata.tables[table].columns.keys()  # noqa: SIM118 (not a dict)
    )
    return f'SELECT {columns} FROM main."{table}"'


def _texts(value: Any, masked: Callable[[str, str], str], name: str = "") -> Any:
    """Return a JSON value whose texts are replaced; `masked` gets the name of the attribute and the text."""
    if isinstance(value, Mapping):
        return {key: _texts(each, masked, str(key)) for key, each in value.items()}
    if isinstance(value, list):
        return [_texts(each, masked, name) for each in value]
    return masked(name, value) if isinstance(value, str) else value


def _all_texts(value: Any) -> Iterator[str]:
    if isinstance(value, Mapping):
        for each in value.values():
            yield from _all_texts(each)
    elif isinstance(value, list):
        for each in value:
            yield from _all_texts(each)
    elif isinstance(value, str):
        yield value


def mask_person(values: Mapping[str, Any]) -> dict[str, Any]:
    """Return the attributes of a user without their names, wherever these occur.

    A text that contains a word of a name is masked too: an email address, or a custom attribute. Attributes
    are masked where they are shown, not where they are read: rules and previews work on the true values.
    """
    named = [value for name, value in values.items() if _is_name(name)]
    words = {word.casefold() for text in _all_texts(named) for word in _WORD.findall(text)}

    def masked(name: str, text: str) -> str:
        return HIDDEN if any(word in text.casefold() for word in words) else text

    return {
        name: _texts(value, (lambda _, text: HIDDEN) if _is_name(name) else masked)
        for name, value in values.items()
    }


def _is_name(attribute: str) -> bool:
    return attribute.casefold() in _NAME_ATTRIBUTES


def mask_texts(stored: str | None) -> str | None:
    """Return a JSON value whose texts are masked, except those that never quote a user."""
    if stored is None:
        return None
    masked = _texts(
        orjson.loads(stored), lambda name, text: text if name in _KEPT or _ID.fullmatch(text) else HIDDEN
    )
    return orjson.dumps(masked).decode()


def mask_effects(stored: str | None) -> str | None:
    """Return the effects of a SCIM request as JSON, with users named as everywhere else."""
    if stored is None:
        return None

    def named(value: Any) -> Any:
        if isinstance(value, Mapping):
            inner = {key: named(each) for key, each in value.items()}
            if "id" in value and "name" in value and value.get("kind") != "group":
                inner["name"] = f"User {str(value['id'])[-8:]}"
            return inner
        return [named(each) for each in value] if isinstance(value, list) else value

    return orjson.dumps(named(orjson.loads(stored))).decode()


def mask_path(path: str | None) -> str | None:
    """Return the path of a SCIM request without what follows the name of the endpoint."""
    if path is None:
        return None
    whole = path.partition("?")[0].strip("/").split("/")
    return f"/{whole[0]}/{HIDDEN}" if len(whole) > 1 else f"/{whole[0]}"


def mask_networks(text: str | None) -> str | None:
    """Return a text without IP addresses."""
    return _ADDRESS.sub(_masked_address, text) if text else text


def _masked_address(found: re.Match[str]) -> str:
    text = found[0]
    # A sentence may go on after the address.
    for rest in (text, text.rstrip(".:"), text.rpartition(":")[0]):
        try:
            ipaddress.ip_address(rest)
        except ValueError:
            continue
        return HIDDEN + text[len(rest) :]
    return text


# What the views call, by name.
FUNCTIONS: dict[str, Callable[[str | None], str | None]] = {
    each.__name__: each for each in (mask_texts, mask_effects, mask_path, mask_networks)
}
