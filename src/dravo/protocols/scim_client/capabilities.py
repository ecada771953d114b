"""Capabilities of an application, read from its own documents (RFC 7644, section 4)."""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import asdict, dataclass, field, fields, replace
from typing import Any

from dravo.core.provisioning.accounts import MANAGER
from dravo.core.provisioning.attribute_mapping import OBJECTS, TEXTS
from dravo.core.scim.schemas import ENTERPRISE_URN, USER_URN
from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.responses import classify, looks_like_a_page

USUAL_PAGE = 100


@dataclass(frozen=True)
class Capabilities:
    """The capabilities of an application; without a statement, the default of the standard.

    Attributes:
        patch, filter, bulk, sort, etag, cursor: whether it supports them.
        bulk_operations, bulk_payload: the largest number of operations and bytes in a bulk request, or None.
        max_results: the largest page, or None.
        groups: whether it has groups.
        attributes: lower-case names of a User's attributes (extensions by URN), or None.
        roles: the form of a User's roles, "objects" or "texts".
        manager: whether a User names its manager.
    """

    patch: bool = True
    filter: bool = True
    bulk: bool = False
    sort: bool = False
    etag: bool = False
    cursor: bool = False
    max_results: int | None = None
    bulk_operations: int | None = None
    bulk_payload: int | None = None
    groups: bool = True
    attributes: tuple[str, ...] | None = None
    roles: str = OBJECTS
    manager: bool = True
    notes: tuple[str, ...] = field(default=())

    @property
    def page(self) -> int:
        """The page size to ask for."""
        return min(self.max_results or USUAL_PAGE, USUAL_PAGE)

    @property
    def active(self) -> bool:
        """Whether an account can be inactive."""
        return self.attributes is None or "active" in self.attributes

    def takes(self, name: str) -> bool:
        """Whether a User has an attribute or extension; IDs are in every resource."""
        return (
            self.attributes is None
            or name.lower() in self.attributes
            or name.lower() in ("externalid", "id", "schemas")
        )

    def document(self) -> dict[str, Any]:
        """Return it as JSON."""
        return {
            **asdict(self),
            "attributes": list(self.attributes) if self.attributes is not None else None,
            "notes": list(self.notes),
        }


def read_capabilities(document: Mapping[str, Any] | None) -> Capabilities:
    """Return stored capabilities; missing values have the default of the standard."""
    known = {each.name for each in fields(Capabilities)}
    given = {name: value for name, value in (document or {}).items() if name in known and value is not None}
    for name in ("attributes", "notes"):
        if name in given:
            given[name] = tuple(given[name])
    return Capabilities(**given)


def discover(config: Mapping[str, Any] | None = None) -> Generator[Request, Response, Capabilities]:
    """Read the capabilities of an application.

    Args:
        config: its ServiceProviderConfig, if it was read before.

    Yields:
        Requests, and is sent their responses. A document that is not there says nothing.

    Raises:
        ConnectionPausedError, RetryableError: where the response concerns the whole application.
    """
    if config is None:
        config = _document((yield Request("GET", "/ServiceProviderConfig")))
    types = _document((yield Request("GET", "/ResourceTypes")))
    schemas = _document((yield Request("GET", "/Schemas")))
    return understand(config, types, schemas)


def _document(response: Response) -> Mapping[str, Any] | None:
    if response.status in (400, 404, 405, 406, 501) and not looks_like_a_page(response):
        return None
    return classify(response, "reading what the application can do")


def understand(
    config: Mapping[str, Any] | None, types: Mapping[str, Any] | None, schemas: Mapping[str, Any] | None
) -> Capabilities:
    """Return the capabilities in an application's three documents; any of them may be missing (None)."""
    given = config or {}

    def says(name: str, otherwise: bool) -> bool:
        part = given.get(name)
        supported = part.get("supported") if isinstance(part, Mapping) else None
        return supported if isinstance(supported, bool) else otherwise

    filtering, paging = given.get("filter"), given.get("pagination")
    attributes, roles = _user_attributes(schemas, types)
    capabilities = Capabilities(
        patch=says("patch", config is None),
        filter=says("filter", config is None),
        bulk=says("bulk", False),
        sort=says("sort", False),
        etag=says("etag", False),
        cursor=isinstance(paging, Mapping) and paging.get("cursor") is True,
        max_results=_number(filtering, "maxResults"),
        bulk_operations=_number(given.get("bulk"), "maxOperations"),
        bulk_payload=_number(given.get("bulk"), "maxPayloadSize"),
        groups="Group" in _names(types) if _names(types) else True,
        attributes=attributes,
        roles=roles,
        manager=_has_manager(schemas),
    )
    return Capabilities(**{**asdict(capabilities), "notes": tuple(_notes(capabilities))})


def without_bulk(capabilities: Capabilities) -> Capabilities:
    """Return the capabilities of an application that refused Bulk although it offers it."""
    found = replace(capabilities, bulk=False, bulk_operations=None, bulk_payload=None)
    return replace(
        found,
        notes=(
            *_notes(found),
            "The application reports bulk support, but refused a bulk request. Dravo sends single requests.",
        ),
    )


def _number(part: Any, name: str) -> int | None:
    """Return a positive number in a document, or None."""
    found = part.get(name) if isinstance(part, Mapping) else None
    return found if isinstance(found, int) and not isinstance(found, bool) and found > 0 else None


def _resources(document: Mapping[str, Any] | None) -> list[Mapping[str, Any]]:
    listed = (document or {}).get("Resources")
    return [each for each in listed if isinstance(each, Mapping)] if isinstance(listed, list) else []


def _names(types: Mapping[str, Any] | None) -> set[str]:
    return {str(each.get("name") or each.get("id")) for each in _resources(types)}


def _user_attributes(
    schemas: Mapping[str, Any] | None, types: Mapping[str, Any] | None
) -> tuple[tuple[str, ...] | None, str]:
    by_id = {str(each.get("id")).lower(): each for each in _resources(schemas)}
    core = by_id.get(USER_URN.lower())
    listed = core.get("attributes") if core else None
    if not isinstance(listed, list) or not listed:
        return None, OBJECTS
    attributes = {str(each.get("name")).lower(): each for each in listed if isinstance(each, Mapping)}
    for kind in _resources(types):
        if kind.get("name") == "User" and isinstance(kind.get("schemaExtensions"), list):
            extensions = {
                str(each.get("schema")).lower()
                for each in kind["schemaExtensions"]
                if isinstance(each, Mapping)
            }
            break
    else:
        extensions = {urn for urn in by_id if urn != USER_URN.lower() and urn.endswith(":user")}
    roles = attributes.get("roles", {})
    shape = TEXTS if roles.get("type", "complex") == "string" else OBJECTS
    return tuple(sorted({*attributes, *extensions})), shape


def _has_manager(schemas: Mapping[str, Any] | None) -> bool:
    """Whether the enterprise extension has a manager; yes where its attributes are not listed."""
    for each in _resources(schemas):
        listed = each.get("attributes")
        if str(each.get("id")).lower() == ENTERPRISE_URN.lower() and isinstance(listed, list) and listed:
            names = {str(one.get("name")).lower() for one in listed if isinstance(one, Mapping)}
            return MANAGER in names
    return True


def _notes(capabilities: Capabilities) -> list[str]:
    """Return in sentences what the application does not support, and what Dravo does instead."""
    notes = []
    if not capabilities.patch:
        notes.append("No PATCH support. Dravo reads and replaces complete accounts.")
    if not capabilities.filter:
        notes.append("No filter support. Dravo reads the complete list to find an account.")
    if capabilities.bulk:
        most = f", at most {capabilities.bulk_operations:,}" if capabilities.bulk_operations else ""
        notes.append(f"Bulk support ({most}). Dravo uses it for many changes.")
    if not capabilities.groups:
        notes.append("No group support. Dravo provisions no groups.")
    if not capabilities.active:
        notes.append("No inactive accounts. Choose 'delete' or 'do_nothing' for users who lose access.")
    if capabilities.max_results and capabilities.max_results < USUAL_PAGE:
        notes.append(f"Maximum page size: {capabilities.max_results}.")
    if capabilities.attributes is not None:
        wanted = ("displayName", "title", "emails", "roles", "externalId")
        missing = [name for name in wanted if not capabilities.takes(name)]
        if missing:
            notes.append(f"Unsupported attributes, which Dravo does not send: {', '.join(missing)}.")
    return notes
