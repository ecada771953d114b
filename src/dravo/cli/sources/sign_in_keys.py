"""`dravo sign-in rotate-key | accept-certificates | change-protocol`: keys, certificates and the protocol."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.output import UsageError, command, moment, read_text, show_json, table
from dravo.cli.sources.sign_in_settings import show_settings
from dravo.client import Dravo


def declare(verbs: Any) -> None:
    """Add the commands to those of sign-in."""
    parser = command(
        verbs,
        "rotate-key",
        _rotate_key,
        "rotate the key of Dravo without a gap, or use a key of your own",
        [
            "dravo sign-in rotate-key contractors next",
            "dravo sign-in rotate-key contractors use",
            "dravo sign-in rotate-key contractors upload --key key.pem --certificate certificate.pem",
        ],
    )
    parser.add_argument("source", help="key of the source")
    parser.add_argument(
        "step",
        choices=("next", "upload", "use"),
        help="next: create the next key; upload: upload it; use: sign with the next key",
    )
    parser.add_argument("--key", metavar="FILE", help="RSA private key as PEM, for upload")
    parser.add_argument("--certificate", metavar="FILE", help="its certificate as PEM, for upload")
    parser = command(
        verbs,
        "accept-certificates",
        _accept,
        "accept the new certificates in the metadata of the provider",
        ["dravo sign-in accept-certificates contractors"],
    )
    parser.add_argument("source", help="key of the source")
    parser = command(
        verbs,
        "change-protocol",
        _change_protocol,
        "change the protocol of a disabled sign-in; users are matched again by user name",
        [
            "dravo sign-in change-protocol contractors oidc --preview",
            "dravo sign-in change-protocol contractors oidc --confirm Contractors",
        ],
    )
    parser.add_argument("source", help="key of the source")
    parser.add_argument("protocol", choices=("saml", "oidc", "email_code"), help="the new protocol")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument("--confirm", metavar="NAME", help="name of the source, to confirm")


def _rotate_key(given: argparse.Namespace, dravo: Dravo) -> None:
    files = (given.key, given.certificate)
    if (given.step == "upload") != all(files) or (given.step != "upload" and any(files)):
        raise UsageError("Give --key and --certificate with the step 'upload', and only there.")
    found = dravo.sign_ins.change_keys(given.source, given.step, *(read_text(each) for each in files if each))
    if given.json:
        show_json(found)
        return
    table(
        {
            "Use": lambda c: c["use"],
            "Valid until (UTC)": lambda c: moment(c["until_at"]),
            "Fingerprint (SHA-256)": lambda c: c["fingerprint"],
        },
        found["certificates"],
    )
    if given.step != "use":
        print("Give the next certificate to the provider, then activate the key with the step 'use'.")


def _accept(given: argparse.Namespace, dravo: Dravo) -> None:
    show_settings(given, dravo.sign_ins.use_certificates(given.source))


def _change_protocol(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_effects(given, dravo.sign_ins.preview_protocol(given.source, given.protocol))
        return
    show_settings(given, dravo.sign_ins.change_protocol(given.source, given.protocol, confirm=given.confirm))
