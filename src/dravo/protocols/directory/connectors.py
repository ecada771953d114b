"""The known connectors, and how one is opened."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ValidationError

from dravo.core.errors import InvalidInput, did_you_mean
from dravo.protocols.directory.csv_files import CsvReader
from dravo.protocols.directory.reader import Reader
from dravo.protocols.directory.scim import ScimReader
from dravo.protocols.trust import read_ca

KINDS: dict[str, type[Reader]] = {"scim": ScimReader, "csv": CsvReader}
try:
    from dravo.protocols.directory.ldap import LdapReader
except ImportError:
    # The package python-ldap is an extra: without it, directories of this kind cannot be added.
    pass
else:
    KINDS = {"ldap": LdapReader, **KINDS}


def kind_of(name: str) -> type[Reader]:
    """Return the class of a connector.

    Raises:
        InvalidInput: for an unknown kind.
    """
    if name not in KINDS:
        hint = "Install the package python-ldap." if name == "ldap" else f"Use one of: {', '.join(KINDS)}."
        raise InvalidInput(f"There is no connector '{name}'.", hint, "kind")
    return KINDS[name]


def read_settings(name: str, given: dict[str, Any]) -> BaseModel:
    """Return the settings of a reader, each checked.

    Raises:
        InvalidInput: naming the setting that is at fault.
    """
    model = kind_of(name).Settings
    unknown = sorted(set(given) - set(model.model_fields))
    if unknown:
        raise InvalidInput(
            f"There is no setting '{unknown[0]}'.",
            did_you_mean(unknown[0], model.model_fields),
            unknown[0],
        )
    if given.get("ca"):
        given = {**given, "ca": read_ca(str(given["ca"]))}
    try:
        return model.model_validate(given)
    except ValidationError as wrong:
        first = wrong.errors()[0]
        field = str(first["loc"][0])
        title = model.model_fields[field].title or field
        raise InvalidInput(
            f"{title}: {first['msg']}.",
            model.model_fields[field].description or "Correct the setting.",
            field,
        ) from None


def open_reader(name: str, settings: BaseModel, secret: str, folder: Path, uses: Sequence[str]) -> Reader:
    """Return an open connector; `folder` has the source's files, `uses` are the attributes that expressions
    read.
    """
    made: Any = kind_of(name)
    reader: Reader = made(settings, folder, uses) if name == "csv" else made(settings, secret, uses)
    return reader


@dataclass(frozen=True)
class ConnectorSetting:
    """A setting of a connector; `kind` is "text", "lines", "switch" or "choice"."""

    name: str
    label: str
    hint: str
    kind: str
    choices: list[str]
    default: Any
    required: bool


def fields_of(name: str) -> list[ConnectorSetting]:
    """Return the settings of a connector, for a form."""
    found = []
    for field, info in kind_of(name).Settings.model_fields.items():
        choices = list(getattr(info.annotation, "__args__", ()))
        extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
        kind = (
            "choice"
            if choices
            else "switch"
            if info.annotation is bool
            else "lines"
            if extra.get("lines")
            else "text"
        )
        default = "" if info.is_required() else info.default
        found.append(
            ConnectorSetting(
                name=field,
                label=info.title or field,
                hint=info.description or "",
                kind=kind,
                choices=choices,
                default=default,
                required=info.is_required(),
            )
        )
    return found
