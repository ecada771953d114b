"""The demo's contractors, who sign in through their own provider, with good and bad test sign-ins to look
at.
"""

from __future__ import annotations

import html
import re
from typing import Any
from urllib.parse import urljoin

from dravo.client import Dravo
from dravo.demo.support import client, http

KEY, LABEL = "contractors", "Contractors' sign-in"
DOMAIN = "rootworks.example"
WHOM_TO_ASK = "Ask Edmund Sallow in Estates, extension 214."
USERS = [
    ("idris.vance", "Idris", "Vance", ["Glazing works", "Site"]),
    ("juno.marlow", "Juno", "Marlow", ["Site"]),
    ("odalys.brandt", "Odalys", "Brandt", ["Glazing works", "Scaffolders"]),
    ("tibor.lantos", "Tibor", "Lantos", ["Scaffolders"]),
    ("sefa.aumua", "Sefa", "Aumua", []),
    # A user who says that they are one of the staff.
    ("una.kerrigan", "Una", "Kerrigan", ["Site"]),
]
# Who came already; the others can be tried out.
CAME = ("idris.vance", "juno.marlow", "odalys.brandt")
OF_STAFF = "una.kerrigan"
IDS = {
    "Glazing works": "3f0c6a1e-5d0b-4a67-9a2d-6f6d4f0a9b11",
    "Site": "b7e2d410-2a44-4f0e-8c39-0c1b7a5e2f90",
}
FAULTS: tuple[dict[str, Any], ...] = (
    {"other_certificate": True},
    {"clock_skew": 900},
    {"ids_for_names": True},
    {},
)


def browse(start: str, who: str) -> str:
    """Sign in as a user, as a browser does it; returns the address where it ended."""
    with client(follow_redirects=True) as browser:
        page = browser.get(start)
        while "<form" in page.text and "/your-applications" not in str(page.url):
            action = html.unescape(re.findall(r"""action=["']([^"']+)""", page.text)[0])
            hidden = re.findall(r"""<input type="?hidden"? name="?([^"\s]+)"? value="([^"]*)">""", page.text)
            fields = {name: html.unescape(value) for name, value in hidden}
            if "Who are you?" in page.text:
                fields["who"] = who
            page = browser.post(urljoin(str(page.url), action), data=fields)
        return str(page.url)


def load(dravo: Dravo, provider: str) -> None:
    """Set the source up as an administrator would: metadata, failing test sign-ins, a working one, then
    enabled.

    Args:
        provider: the address of the stand-in.
    """

    def put(path: str, body: Any) -> None:
        http.put(f"{provider}/{path}", json=body).raise_for_status()

    for name, given, family, groups in USERS:
        email = f"{name}@{'fernhollow.example' if name == OF_STAFF else DOMAIN}"
        put(f"users/{name}", {"given": given, "family": family, "email": email, "groups": groups})
    put("groups", IDS)
    dravo.sources.add(KEY, LABEL)
    settings = {"metadata_url": f"{provider}/metadata", "support_contact": WHOM_TO_ASK}
    dravo.sign_ins.change(
        KEY, protocol="saml", settings=settings, policy={"match": "email", "domains": [DOMAIN]}
    )
    for faults in FAULTS:
        put("faults", faults)
        browse(dravo.sign_ins.create_sign_in_test(KEY, "idris.vance", minutes=60)["link"], "idris.vance")
    browse(dravo.sign_ins.create_sign_in_test(KEY, "idris.vance", mode="apply")["link"], "idris.vance")
    dravo.assignments.add(
        "glasshouse-controls",
        "reader",
        source=KEY,
        group="Glazing works",
        until=None,
        note="While the glass is renewed.",
    )
    dravo.sign_ins.set_status(KEY, "enabled")
    start = dravo.sign_ins.get(KEY)["start"]
    for name in (*CAME, OF_STAFF):
        browse(start, name)


def reconnect(dravo: Dravo, provider: str) -> None:
    """Save the new address of a provider whose port was taken."""
    if (
        KEY in {each["key"] for each in dravo.sources.list()}
        and dravo.sign_ins.get(KEY)["settings"]["metadata_url"] != f"{provider}/metadata"
    ):
        dravo.sign_ins.change(KEY, settings={"metadata_url": f"{provider}/metadata"})
