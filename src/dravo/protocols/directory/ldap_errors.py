"""Errors of LDAP in words, with hints."""

from __future__ import annotations

from typing import Any

import ldap

from dravo.protocols.directory.reader import (
    DirectoryTrouble,
)


def trouble(wrong: ldap.LDAPError, doing: str) -> DirectoryTrouble:
    """Return an error of the library with a hint."""
    said = wrong.args[0] if wrong.args and isinstance(wrong.args[0], dict) else {}
    detail = ": ".join(str(said[name]) for name in ("desc", "info") if said.get(name)) or type(wrong).__name__
    for kind, hint in _HINTS.items():
        if isinstance(wrong, kind):
            return DirectoryTrouble(f"The directory refused {doing} ({detail}).", hint)
    if isinstance(wrong, ldap.SERVER_DOWN | ldap.CONNECT_ERROR) and doing in (
        "connecting",
        "StartTLS",
        "the bind",
    ):
        hint = "Enter your own CA if needed, and the host name from the certificate."
        return DirectoryTrouble(
            f"The encrypted connection failed ({detail}). The certificate is probably not trusted.", hint
        )
    if "certificate" in detail.lower():
        return DirectoryTrouble(
            f"The certificate is not trusted ({detail}).",
            "Enter the CA certificate, and the host name from the certificate.",
        )
    return DirectoryTrouble(
        f"The directory closed the connection at {doing} ({detail}).",
        "Try again. If it fails again, contact the administrator of the directory.",
    )


_HINTS: dict[Any, str] = {
    ldap.INVALID_CREDENTIALS: "Check the bind DN and the password.",
    ldap.NO_SUCH_OBJECT: "Check that the base exists and the account can read it.",
    ldap.INSUFFICIENT_ACCESS: "Allow the account to read it.",
    ldap.SIZELIMIT_EXCEEDED: "Raise the size limit for this account. The result is incomplete.",
    ldap.ADMINLIMIT_EXCEEDED: "Raise the limits for this account. The result is incomplete.",
    ldap.TIMELIMIT_EXCEEDED: "Raise the time limit, or narrow the filter.",
    ldap.FILTER_ERROR: "Correct the filter (RFC 4515).",
    ldap.INVALID_DN_SYNTAX: "Enter DNs such as ou=people,dc=fernhollow,dc=example.",
    ldap.CONFIDENTIALITY_REQUIRED: "Use ldaps:// or StartTLS.",
    ldap.STRONG_AUTH_REQUIRED: "Use ldaps:// or StartTLS.",
    ldap.INAPPROPRIATE_AUTH: "Use a simple bind with a bind DN and a password.",
    ldap.UNWILLING_TO_PERFORM: "Check which bind methods the directory supports.",
    ldap.PROTOCOL_ERROR: "The directory does not support this. Try ldaps:// instead of StartTLS.",
}
