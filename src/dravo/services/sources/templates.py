"""Source templates: preset values for a new source, from data files. Everything can be changed later.

A template fills in the connection type, the connector or protocol, settings and source policy, and names the
guide.
"""

from __future__ import annotations

import functools
import tomllib
from dataclasses import field
from importlib import resources
from typing import Any, Literal

from pydantic import ConfigDict
from pydantic.dataclasses import dataclass

from dravo.core.errors import InvalidInput, did_you_mean
from dravo.store.pagination import ItemList

FOLDER = resources.files("dravo") / "templates" / "sources"


@dataclass(frozen=True, config=ConfigDict(extra="forbid"))
class SourceTemplate:
    """A source template.

    Attributes:
        key: the name of its file.
        description: what tells it apart from the others, in a sentence.
        connector: of an import.
        protocol: of a sign-in.
        settings: presets of the connector or protocol.
        policy: presets of the source policy; values that are not named keep their default.
        guide: the name of the guide.
    """

    key: str
    label: str
    description: str
    connection_type: Literal["inbound_scim", "import", "sign_in"]
    guide: str
    connector: Literal["ldap", "scim", "csv"] | None = None
    protocol: Literal["saml", "oidc", "email_code"] | None = None
    settings: dict[str, Any] = field(default_factory=dict)
    policy: dict[str, Any] = field(default_factory=dict)


@functools.cache
def _every() -> dict[str, SourceTemplate]:
    found = {}
    for each in sorted(FOLDER.iterdir(), key=lambda file: file.name):
        if each.name.endswith(".toml"):
            key = each.name.removesuffix(".toml")
            found[key] = SourceTemplate(key=key, **tomllib.loads(each.read_text("utf-8")))
    return found


def list_templates() -> ItemList[SourceTemplate]:
    """Return all source templates, by connection type and label."""
    order = ("inbound_scim", "import", "sign_in")
    return ItemList(
        sorted(_every().values(), key=lambda each: (order.index(each.connection_type), each.label))
    )


def get(key: str) -> SourceTemplate:
    """Return a template.

    Raises:
        InvalidInput: if there is none of this name.
    """
    if key not in _every():
        raise InvalidInput(
            f"There is no source template '{key}'.", did_you_mean(key, list(_every())), "template"
        )
    return _every()[key]


def of_source(key: str | None, connection_type: str) -> SourceTemplate | None:
    """Return the template of a source, if it is one for a connection type and still exists."""
    found = _every().get(key or "")
    return found if found is not None and found.connection_type == connection_type else None
