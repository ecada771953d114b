"""SCIM errors with the detail keywords of RFC 7644, section 3.12, table 9."""

from __future__ import annotations

from typing import Any

ERROR_SCHEMA = "urn:ietf:params:scim:api:messages:2.0:Error"


class ScimError(Exception):
    """A request that cannot be met, with its HTTP status and, where the RFC has one, its scimType keyword.

    Args:
        status: HTTP status code.
        detail: a sentence for the user at the other side, with the hint.
        scim_type: one of invalidFilter, tooMany, uniqueness, mutability, invalidSyntax, invalidPath,
            noTarget,
            invalidValue, invalidVers, sensitive; or None.
    """

    def __init__(self, status: int, detail: str, scim_type: str | None = None) -> None:
        super().__init__(detail)
        self.status = status
        self.detail = detail
        self.scim_type = scim_type

    def body(self) -> dict[str, Any]:
        """Return the error as a SCIM message (RFC 7644, section 3.12); `status` is a text there."""
        message: dict[str, Any] = {
            "schemas": [ERROR_SCHEMA],
            "status": str(self.status),
            "detail": self.detail,
        }
        if self.scim_type:
            message["scimType"] = self.scim_type
        return message


def invalid_value(detail: str) -> ScimError:
    """Return the error for a value that is missing or not of its attribute's type."""
    return ScimError(400, detail, "invalidValue")


def invalid_syntax(detail: str) -> ScimError:
    """Return the error for a message with a wrong structure."""
    return ScimError(400, detail, "invalidSyntax")


def invalid_path(detail: str) -> ScimError:
    """Return the error for a path that does not parse or names nothing in the schemas."""
    return ScimError(400, detail, "invalidPath")


def invalid_filter(detail: str) -> ScimError:
    """Return the error for an invalid filter."""
    return ScimError(400, detail, "invalidFilter")


def no_target(detail: str) -> ScimError:
    """Return the error for a path that yields nothing to work on."""
    return ScimError(400, detail, "noTarget")


def mutability(detail: str) -> ScimError:
    """Return the error for a change of a read-only value."""
    return ScimError(400, detail, "mutability")
