"""Schemas and attribute characteristics (RFC 7643, sections 2, 4 and 7)."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

USER_URN = "urn:ietf:params:scim:schemas:core:2.0:User"
GROUP_URN = "urn:ietf:params:scim:schemas:core:2.0:Group"
ENTERPRISE_URN = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
SCHEMA_URN = "urn:ietf:params:scim:schemas:core:2.0:Schema"
RESOURCE_TYPE_URN = "urn:ietf:params:scim:schemas:core:2.0:ResourceType"


@dataclass(frozen=True, eq=False)
class Attribute:
    """An attribute with its characteristics (RFC 7643, section 7); `sub` has the sub-attributes of a complex
    one.

    Schemas are compared and hashed by identity: there is one object for each, and hashing all parts would be
    slow.
    """

    name: str
    type: str = "string"
    multi_valued: bool = False
    required: bool = False
    case_exact: bool = False
    mutability: str = "readWrite"
    returned: str = "default"
    uniqueness: str = "none"
    description: str = ""
    canonical: tuple[str, ...] = ()
    reference_types: tuple[str, ...] = ()
    sub: tuple[Attribute, ...] = ()

    @cached_property
    def sub_by_name(self) -> dict[str, Attribute]:
        """Sub-attributes by lower-case name: names are case-insensitive (RFC 7643, section 2.1)."""
        return {attribute.name.lower(): attribute for attribute in self.sub}

    def document(self) -> dict[str, Any]:
        """Return the attribute as the Schemas endpoint returns it (RFC 7643, section 7)."""
        shown: dict[str, Any] = {
            "name": self.name,
            "type": self.type,
            "multiValued": self.multi_valued,
            "description": self.description,
            "required": self.required,
            "caseExact": self.case_exact,
            "mutability": self.mutability,
            "returned": self.returned,
            "uniqueness": self.uniqueness,
        }
        if self.canonical:
            shown["canonicalValues"] = list(self.canonical)
        if self.reference_types:
            shown["referenceTypes"] = list(self.reference_types)
        if self.sub:
            shown["subAttributes"] = [attribute.document() for attribute in self.sub]
        return shown


@dataclass(frozen=True, eq=False)
class Schema:
    """A named set of attributes with a URN."""

    id: str
    name: str
    description: str
    attributes: tuple[Attribute, ...]

    @cached_property
    def by_name(self) -> dict[str, Attribute]:
        """Attributes by lower-case name."""
        return {attribute.name.lower(): attribute for attribute in self.attributes}

    def document(self) -> dict[str, Any]:
        """Return the schema as the Schemas endpoint returns it."""
        return {
            "schemas": [SCHEMA_URN],
            "id": self.id,
            "name": self.name,
            "description": self.description,
            "attributes": [attribute.document() for attribute in self.attributes],
        }


@dataclass(frozen=True, eq=False)
class ResourceType:
    """A kind of resource: its core schema and the extensions that it may carry (RFC 7643, section 6)."""

    name: str
    endpoint: str
    schema: Schema
    extensions: tuple[Schema, ...] = ()
    description: str = ""

    @cached_property
    def by_name(self) -> dict[str, Attribute]:
        """Top-level attributes of the resource, common ones included, by lower-case name."""
        return {**COMMON, **self.schema.by_name}

    @cached_property
    def extension_by_urn(self) -> dict[str, Schema]:
        """Extension schemas by lower-case URN: URNs are case-insensitive (RFC 8141)."""
        return {schema.id.lower(): schema for schema in self.extensions}

    @cached_property
    def every_attribute(self) -> tuple[tuple[str | None, Attribute, Attribute | None], ...]:
        """Each attribute and sub-attribute with its extension's URN (None: the core schema)."""
        found: list[tuple[str | None, Attribute, Attribute | None]] = []
        for schema in (self.schema, *self.extensions):
            urn = None if schema is self.schema else schema.id
            for attribute in schema.attributes:
                found.append((urn, attribute, None))
                found.extend((urn, attribute, sub) for sub in attribute.sub)
        return tuple(found)

    @cached_property
    def seldom_returned(self) -> tuple[tuple[str | None, str, str | None, str], ...]:
        """Attributes that are returned always, never or on request, as (URN, attribute, sub-attribute,
        when).
        """
        return tuple(
            (urn, attribute.name, sub.name if sub else None, (sub or attribute).returned)
            for urn, attribute, sub in self.every_attribute
            if (sub or attribute).returned != "default" and (sub or attribute).mutability != "writeOnly"
        )

    @cached_property
    def immutable(self) -> tuple[tuple[str | None, Attribute], ...]:
        """Immutable attributes; members of groups are a list of their own."""
        return tuple(
            (urn, attribute)
            for urn, attribute, sub in self.every_attribute
            if sub is None and attribute.mutability == "immutable"
        )

    @cached_property
    def unique(self) -> tuple[tuple[str, Attribute], ...]:
        """Attributes of extensions whose values must be unique within the source."""
        return tuple(
            (urn, attribute)
            for urn, attribute, sub in self.every_attribute
            if urn and sub is None and attribute.uniqueness != "none"
        )

    def document(self) -> dict[str, Any]:
        """Return the type as the ResourceTypes endpoint returns it."""
        return {
            "schemas": [RESOURCE_TYPE_URN],
            "id": self.name,
            "name": self.name,
            "endpoint": self.endpoint,
            "description": self.description,
            "schema": self.schema.id,
            "schemaExtensions": [{"schema": schema.id, "required": False} for schema in self.extensions],
        }


COMMON = {
    "id": Attribute("id", case_exact=True, mutability="readOnly", returned="always", uniqueness="server"),
    "externalid": Attribute("externalId", case_exact=True),
    "schemas": Attribute("schemas", "reference", multi_valued=True, case_exact=True, returned="always"),
    "meta": Attribute(
        "meta",
        "complex",
        mutability="readOnly",
        sub=(
            Attribute("resourceType", case_exact=True, mutability="readOnly"),
            Attribute("created", "dateTime", mutability="readOnly"),
            Attribute("lastModified", "dateTime", mutability="readOnly"),
            Attribute("location", "reference", case_exact=True, mutability="readOnly"),
            Attribute("version", case_exact=True, mutability="readOnly"),
        ),
    ),
}


def _plural(
    name: str, description: str, types: tuple[str, ...] = (), value_type: str = "string", exact: bool = False
) -> Attribute:
    """Return a multi-valued attribute with the usual sub-attributes (RFC 7643, section 2.4)."""
    return Attribute(
        name,
        "complex",
        multi_valued=True,
        description=description,
        sub=(
            Attribute("value", value_type, case_exact=exact, description="The value itself."),
            Attribute("display", description="A human-readable name."),
            Attribute("type", canonical=types, description="The type of the value."),
            Attribute(
                "primary",
                "boolean",
                description="Whether this is the preferred value. At most one value is primary.",
            ),
        ),
    )


_NAME = Attribute(
    "name",
    "complex",
    description="The components of the name.",
    sub=tuple(
        Attribute(part, description=text)
        for part, text in (
            ("formatted", "The full name for display."),
            ("familyName", "The family name."),
            ("givenName", "The given name."),
            ("middleName", "The middle names."),
            ("honorificPrefix", "The honorific prefix."),
            ("honorificSuffix", "The honorific suffix."),
        )
    ),
)

_ADDRESSES = Attribute(
    "addresses",
    "complex",
    multi_valued=True,
    description="Postal addresses.",
    sub=(
        Attribute("formatted", description="The full address."),
        Attribute("streetAddress", description="The street address."),
        Attribute("locality", description="Town."),
        Attribute("region", description="State or region."),
        Attribute("postalCode", description="Postal code."),
        Attribute("country", description="Country, ISO 3166-1 alpha 2."),
        Attribute("type", canonical=("work", "home", "other"), description="The type of the address."),
        Attribute("primary", "boolean", description="Whether this is the preferred address."),
    ),
)

_USER_GROUPS = Attribute(
    "groups",
    "complex",
    multi_valued=True,
    mutability="readOnly",
    description="Groups of this source that contain the user. Changed through Group.",
    sub=(
        Attribute("value", case_exact=True, mutability="readOnly", description="The ID of the group."),
        Attribute(
            "$ref", "reference", case_exact=True, mutability="readOnly", reference_types=("User", "Group")
        ),
        Attribute("display", mutability="readOnly", description="The name of the group."),
        Attribute("type", mutability="readOnly", canonical=("direct", "indirect"), description="How."),
    ),
)

USER_SCHEMA = Schema(
    USER_URN,
    "User",
    "A user",
    (
        Attribute(
            "userName",
            required=True,
            uniqueness="server",
            description="The sign-in name. Unique within the source.",
        ),
        _NAME,
        Attribute("displayName", description="The name for display."),
        Attribute("nickName", description="The casual name."),
        Attribute(
            "profileUrl",
            "reference",
            case_exact=True,
            reference_types=("external",),
            description="The URL of a profile page.",
        ),
        Attribute("title", description="The job title."),
        Attribute("userType", description="The relationship to the organization."),
        Attribute("preferredLanguage", description="Language, as in RFC 5646."),
        Attribute("locale", description="Locale, as in RFC 5646."),
        Attribute("timezone", description="Time zone, as in RFC 6557."),
        Attribute("active", "boolean", description="Whether the user is active."),
        Attribute(
            "password",
            case_exact=True,
            mutability="writeOnly",
            returned="never",
            description="Discarded. Dravo never stores it.",
        ),
        _plural("emails", "Email addresses.", ("work", "home", "other")),
        _plural("phoneNumbers", "Telephone numbers.", ("work", "home", "mobile", "fax", "pager", "other")),
        _plural("ims", "Instant messaging addresses."),
        _plural("photos", "URLs of photos.", ("photo", "thumbnail"), "reference", exact=True),
        _ADDRESSES,
        _USER_GROUPS,
        _plural("entitlements", "Entitlements of the user."),
        _plural("roles", "Roles reported by the source."),
        _plural("x509Certificates", "Certificates.", (), "binary", exact=True),
    ),
)

ENTERPRISE_SCHEMA = Schema(
    ENTERPRISE_URN,
    "EnterpriseUser",
    "Enterprise User",
    (
        Attribute("employeeNumber", description="The employee number."),
        Attribute("costCenter", description="The cost center."),
        Attribute("organization", description="Organization."),
        Attribute("division", description="Division."),
        Attribute("department", description="Department."),
        Attribute(
            "manager",
            "complex",
            description="The manager of the user.",
            sub=(
                Attribute("value", case_exact=True, description="The ID of the manager."),
                Attribute(
                    "$ref",
                    "reference",
                    case_exact=True,
                    reference_types=("User",),
                    description="The URI of the manager.",
                ),
                Attribute("displayName", mutability="readOnly", description="The name of the manager."),
            ),
        ),
    ),
)

GROUP_SCHEMA = Schema(
    GROUP_URN,
    "Group",
    "Group",
    (
        Attribute("displayName", required=True, description="The name of the group."),
        Attribute(
            "members",
            "complex",
            multi_valued=True,
            description="The members of the group.",
            sub=(
                Attribute(
                    "value", case_exact=True, mutability="immutable", description="The ID of the member."
                ),
                Attribute(
                    "$ref",
                    "reference",
                    case_exact=True,
                    mutability="immutable",
                    reference_types=("User", "Group"),
                ),
                Attribute(
                    "type",
                    mutability="immutable",
                    canonical=("User", "Group"),
                    description="The type of the member.",
                ),
                Attribute("display", mutability="readOnly", description="The name of the member."),
            ),
        ),
    ),
)


@dataclass(frozen=True, eq=False)
class SchemaSet:
    """The schemas of a source's users and groups: the standard ones, and extensions that an operator
    added.
    """

    user: ResourceType
    group: ResourceType

    @property
    def types(self) -> tuple[ResourceType, ResourceType]:
        """Both resource types."""
        return self.user, self.group

    @cached_property
    def schemas(self) -> tuple[Schema, ...]:
        """Every schema, each once."""
        found = {schema.id: schema for kind in self.types for schema in (kind.schema, *kind.extensions)}
        return tuple(found.values())

    def named(self, name: str) -> ResourceType:
        """Return the resource type of that name, "User" or "Group"."""
        return self.user if name == "User" else self.group


USER = ResourceType("User", "/Users", USER_SCHEMA, (ENTERPRISE_SCHEMA,), "Users")
GROUP = ResourceType("Group", "/Groups", GROUP_SCHEMA, (), "Groups")
STANDARD = SchemaSet(USER, GROUP)


def extended(users: tuple[Schema, ...], groups: tuple[Schema, ...]) -> SchemaSet:
    """Return the standard shapes with further extensions for users and for groups."""
    if not users and not groups:
        return STANDARD
    return SchemaSet(
        ResourceType("User", "/Users", USER_SCHEMA, (ENTERPRISE_SCHEMA, *users), "Users"),
        ResourceType("Group", "/Groups", GROUP_SCHEMA, groups, "Groups"),
    )
