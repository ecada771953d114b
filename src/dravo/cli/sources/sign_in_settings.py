"""`dravo sign-in set | check`, and how sign-in settings are shown."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.errors import FAILED
from dravo.cli.output import (
    UsageError,
    command,
    moment,
    read_json,
    read_secret,
    read_text,
    show_json,
    show_steps,
    table,
)
from dravo.client import Dravo

# Settings that are set by options of the same name.
_TEXTS = {
    "metadata_url": "SAML: metadata URL of the provider; Dravo fetches it daily",
    "issuer": "OpenID Connect: issuer of the provider",
    "client_id": "OpenID Connect: client ID of Dravo at the provider",
    "scopes": "OpenID Connect: requested scopes (default 'openid profile email')",
    "subject_claim": "claim that identifies a user (default: NameID, or sub)",
    "authn_context": "required authentication contexts (AuthnContextClassRef or acr), with blanks between "
    "them; '' accepts all",
    "logout_url": "logout URL of the provider, if it publishes none or another one; '' for the published one",
    "pilot": "pilot group: only its members can sign in while the status is pilot",
    "support_contact": "support contact for refused users (default: the organization setting)",
    "new_user_group": "emailed code: group for new users",
}


_NUMBERS = {
    "clock_skew": "clock skew in seconds, maximum 300 (default 60)",
    "claim_days": "days without a sign-in until memberships from claims expire; 0: never (default 30)",
    "inactive_days": "days without a sign-in until a user becomes inactive; 0: never (default 0)",
    "max_validity_hours": "maximum validity of a SAML response in hours, 1 to 24 (default 1)",
}


_SWITCHES = {
    "allow_idp_initiated": "SAML: allow IdP-initiated sign-in (yes or no, default no)",
    "sign_requests": "SAML: sign requests (yes or no, default yes)",
    "auto_accept_certificates": "SAML: accept new certificates from metadata automatically (yes or no, "
    "default no)",
    "import_groups": "read group memberships from claims (yes or no, default yes)",
    "refresh": "refresh the user from the directory at each sign-in (yes or no, default no)",
    "single_logout": "sign users out at the provider too (yes or no, default yes)",
    "force_authn": "force authentication at each sign-in (yes or no, default no)",
    "userinfo": "OpenID Connect: request claims from the UserInfo endpoint (yes or no, default yes)",
    "private_key_jwt": "OpenID Connect: authenticate with a private key instead of a secret (yes or "
    "no, default no)",
}


# Values of an OpenID provider, entered one by one.
_ENDPOINTS = {
    "authorization_endpoint": "OpenID Connect: authorization endpoint, if the provider has no discovery",
    "token_endpoint": "OpenID Connect: token endpoint, if the provider has no discovery",
    "userinfo_endpoint": "OpenID Connect: UserInfo endpoint, if the provider has no discovery",
    "jwks_uri": "OpenID Connect: URL of the provider's keys, if the provider has no discovery",
}


def declare_set(verbs: Any) -> None:
    """Add the commands to those of sign-in."""
    parser = command(
        verbs,
        "set",
        _set,
        "change the sign-in settings; omitted options keep their value",
        [
            "dravo sign-in set contractors --protocol saml --metadata-url "
            "https://id.rootworks.example/metadata",
            "dravo sign-in set contractors --metadata metadata.xml",
            "dravo sign-in set volunteers --protocol email_code",
            "dravo sign-in set partners --protocol oidc --issuer https://id.rootworks.example "
            "--client-id dravo --ask-secret",
        ],
    )
    _add_options(parser)
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser = command(
        verbs,
        "check",
        _check,
        "test sign-in settings against the provider before you save them; omitted options have their saved "
        "value",
        [
            "dravo sign-in check partners",
            "dravo sign-in check partners --issuer https://id.rootworks.example --ask-secret",
        ],
    )
    _add_options(parser)


def _add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", help="key of the source")
    parser.add_argument(
        "--protocol",
        choices=("saml", "oidc", "email_code"),
        help="protocol of a new sign-in; email_code is an emailed code",
    )
    parser.add_argument(
        "--serves",
        choices=("users", "operators", "both"),
        help="who can sign in; only a super administrator can include operators",
    )
    parser.add_argument(
        "--metadata", metavar="FILE", help="file with the metadata of the provider; - for standard input"
    )
    parser.add_argument("--policy", metavar="FILE", help="source policy as JSON; - for standard input")
    parser.add_argument("--entity-id", help="of the provider, if it has no metadata")
    parser.add_argument("--address", help="single sign-on URL, if the provider has no metadata")
    parser.add_argument("--certificate", metavar="FILE", help="of the provider, if it has no metadata")
    for name, explained in _ENDPOINTS.items():
        parser.add_argument(f"--{name.replace('_', '-')}", metavar="URL", help=explained)
    parser.add_argument(
        "--jwks",
        metavar="FILE",
        help="OpenID Connect: file with the provider's keys (JWK set), in place of a URL",
    )
    parser.add_argument(
        "--request-binding",
        choices=("any", "redirect", "post"),
        help="SAML: binding of requests (default any: redirect where the provider offers it)",
    )
    parser.add_argument(
        "--ca", metavar="FILE", help="PEM file of the provider's own CA, to fetch its metadata and keys"
    )
    parser.add_argument("--ask-secret", action="store_true", help="ask for the client secret")
    parser.add_argument(
        "--refresh-metadata", action="store_true", help="fetch the metadata of the provider now"
    )
    for name, explained in _TEXTS.items():
        parser.add_argument(f"--{name.replace('_', '-')}", help=explained)
    for name, explained in _NUMBERS.items():
        parser.add_argument(f"--{name.replace('_', '-')}", type=int, metavar="N", help=explained)
    for name, explained in _SWITCHES.items():
        parser.add_argument(f"--{name.replace('_', '-')}", choices=("yes", "no"), help=explained)


def show_settings(given: argparse.Namespace, found: Any) -> None:
    """Print the sign-in settings of a source."""
    if given.json:
        show_json(found)
        return
    serves = (
        ""
        if found["serves"] == "users"
        else f", for {'operators' if found['serves'] == 'operators' else 'users and operators'}"
    )
    print(f"{found['source']['label']}: {found['protocol_label']}, status: {found['status']}{serves}")
    if found["enabled_from"]:
        print(f"Enabled for everyone from {moment(found['enabled_from'])} UTC.")
    if found["protocol"] != "email_code":
        print(f"Provider: {found['provider']['entity_id'] or 'not known yet'}")
    for each in found["provider"]["certificates"]:
        print(f"  certificate {each['subject']}, until {moment(each['until_at'])} UTC")
    for each in found["provider"]["waiting"]:
        print(f"  new certificate, not accepted yet: {each['subject']}, until {moment(each['until_at'])} UTC")
    print(f"Missing: {', '.join(found['missing']) or 'nothing'}")
    print(
        "Last successful sign-in: "
        f"{moment(found['verified_at']) if found['verified_at'] else 'never with these settings'}"
    )
    if found["trouble"]:
        print(f"Error: {found['trouble']}")
    table(
        {
            "Setup checklist": lambda t: t["label"],
            "First (UTC)": lambda t: moment(t["first_at"]) if t["first_at"] else "not yet",
        },
        found["ticks"],
    )


def _wish(given: argparse.Namespace) -> dict[str, Any]:
    """Return the settings that the options ask for."""
    settings: dict[str, Any] = {
        name: getattr(given, name) for name in (*_TEXTS, *_NUMBERS) if getattr(given, name) is not None
    }
    settings |= {
        name: getattr(given, name) == "yes" for name in _SWITCHES if getattr(given, name) is not None
    }
    if given.request_binding is not None:
        settings["request_binding"] = "" if given.request_binding == "any" else given.request_binding
    if given.ca is not None:
        settings["ca"] = read_text(given.ca) if given.ca else ""
    wish: dict[str, Any] = {
        "protocol": given.protocol,
        "serves": given.serves,
        "settings": settings or None,
        "look": given.refresh_metadata,
    }
    if given.metadata:
        wish["metadata"] = read_text(given.metadata)
    if given.policy:
        wish["policy"] = read_json(given.policy)
    fields = {"entity_id": given.entity_id, "sign_in": given.address}
    fields |= {name: getattr(given, name) for name in _ENDPOINTS}
    for name, path in (("certificates", given.certificate), ("jwks", given.jwks)):
        if path is not None:
            fields[name] = read_text(path) if path else ""
    if any(value is not None for value in fields.values()):
        wish["fields"] = {name: value for name, value in fields.items() if value is not None}
    if given.ask_secret:
        wish["secret"] = read_secret("Client secret: ")
    return wish


def _set(given: argparse.Namespace, dravo: Dravo) -> None:
    wish = _wish(given)
    if not any(value for value in wish.values()):
        raise UsageError("No setting given. See 'dravo sign-in set --help' for all settings.")
    if given.preview:
        show_effects(given, dravo.sign_ins.preview(given.source, **wish))
        return
    show_settings(given, dravo.sign_ins.change(given.source, **wish))


def _check(given: argparse.Namespace, dravo: Dravo) -> int | None:
    found = dravo.sign_ins.check(given.source, **_wish(given))
    if given.json:
        show_json(found)
    else:
        show_steps(found["steps"])
        print("Nothing was saved.")
    return None if found["ok"] else FAILED
