"""The demo's two imported sources: the estates directory, a real slapd, and the volunteers' register, CSV
files.

They have a history: a preview, a first run, days with joiners and leavers, an outage, and an implausibly
large change.
"""

from __future__ import annotations

import subprocess
from pathlib import Path
from typing import Any

from dravo.client import Dravo
from dravo.demo import directory, scenario
from dravo.demo.directory import Directory, group_dn, user_dn

ESTATES, ESTATES_LABEL = "estates", "Estates directory"
VOLUNTEERS, VOLUNTEERS_LABEL = "volunteers", "Volunteers' register"
TEAMS = ("Guides", "Weeders", "Seed sorters")

# Who is in the estates directory beside the department: the ground crew, hired by the season.
CREW = [
    ("aldous.wick", "Aldous", "Wick"),
    ("betony.marsh", "Betony", "Marsh"),
    ("corin.hale", "Corin", "Hale"),
    ("drusilla.penn", "Drusilla", "Penn"),
    ("eamon.fairley", "Éamon", "Fairley"),
    ("fabia.stroud", "Fabia", "Stroud"),
    ("gwilym.orchard", "Gwilym", "Orchard"),
    ("hester.boon", "Hester", "Boon"),
    ("ivo.tanner", "Ivo", "Tanner"),
    ("jocasta.rime", "Jocasta", "Rime"),
    ("kit.larwood", "Kit", "Larwood"),
    ("lowri.dale", "Lowri", "Dale"),
    ("milo.thatch", "Milo", "Thatch"),
    ("nerys.coombe", "Nerys", "Coombe"),
    ("orla.finch", "Orla", "Finch"),
    ("petroc.vale", "Petroc", "Vale"),
]
# A user with the email address of a user here under another user name; and a leaver's user name, come
# again.
DOUBTFUL = [
    ("w.halliday", "Wren", "Halliday", "wren.halliday"),
    ("finley.ashdown", "Finley", "Ashdown", "finley.ashdown"),
]


def entries() -> str:
    """Return the first entries of the estates directory, in LDIF."""
    staff = [
        (scenario.plain(f"{given}.{family}"), given, family, title)
        for given, family, title in scenario.DEPARTMENTS["Estates"]
    ]
    lines = [
        directory.user(
            uid,
            given,
            family,
            {
                "mail": [f"{uid}@{scenario.DOMAIN}"],
                "title": [title],
                "ou": ["Estates"],
                "roomNumber": ["Yard 2"],
            },
        )
        for uid, given, family, title in staff
    ]
    lines += [
        directory.user(
            uid, given, family, {"mail": [f"{uid}@crew.example"], "title": ["Ground crew"], "ou": ["Estates"]}
        )
        for uid, given, family in CREW[:14]
    ]
    lines += [
        directory.user(
            uid,
            given,
            family,
            {"mail": [f"{mail}@{scenario.DOMAIN}"], "title": ["Guide"], "ou": ["Education"]},
        )
        for uid, given, family, mail in DOUBTFUL
    ]
    lines.append(directory.group("Tree surgeons", [user_dn("una.kerrigan"), user_dn("dmitri.volkhonin")]))
    lines.append(directory.group("Ground crew", [user_dn(uid) for uid, _, _ in CREW[:14]]))
    lines.append(
        directory.group(
            "Gate keys", [group_dn("Tree surgeons"), user_dn("caspian.rudd"), user_dn("hedda.lindqvist")]
        )
    )
    return "".join(lines)


def register() -> bytes:
    """Return the volunteers' register as found in practice: semicolons, Latin-1, a doubled line and one
    without an ID.
    """
    lines = ["number;first name;last name;email;team;since"]
    for number, (given, family) in enumerate(
        zip(scenario.GIVEN_NAMES * 2, scenario.FAMILY_NAMES * 2, strict=False), 1
    ):
        if number > 25:
            break
        team = TEAMS[number % 3] if number % 5 else f"{TEAMS[0]}, {TEAMS[1]}"
        lines.append(
            f"V{number:03};{given};{family};{scenario.plain(given)}.{scenario.plain(family)}"
            f"@volunteers.example;{team};2031-04"
        )
    lines.append("V026;Benoît;Çelik-Lambert;benoit@volunteers.example;Guides;2031-05")
    lines.append("V007;Gale;Twice;gale@volunteers.example;Guides;2031-05")
    lines.append(";No;Number;nobody@volunteers.example;;")
    return "\r\n".join(lines).encode("latin-1")


REGISTER = {
    "attributes": [
        {
            "attribute": "userName",
            "expression": "\"v.{attribute 'first name' then plain then lower}.{attribute 'last name' "
            'then plain then lower}"',
        },
        {"attribute": "displayName", "expression": "\"{attribute 'first name'} {attribute 'last name'}\""},
        {"attribute": "name.givenName", "expression": 'attribute "first name"'},
        {"attribute": "name.familyName", "expression": 'attribute "last name"'},
        {"attribute": 'emails[type eq "work"].value', "expression": "email"},
        {"attribute": "title", "expression": '"Volunteer"'},
    ],
}


class Sources:
    """Both sources, set up once and started with the demo."""

    def __init__(self, folder: Path, port: int) -> None:
        self.directory = Directory(folder / "estates", port, port + 1) if directory.found() else None

    def start(self) -> None:
        """Start the directory, if slapd is here."""
        if self.directory is not None:
            self.directory.prepare(entries())
            self.directory.start()

    def stop(self) -> None:
        """End the directory."""
        if self.directory is not None:
            self.directory.stop()

    def settings(self) -> dict[str, Any]:
        """Return how the directory is read."""
        made = self.directory
        assert made is not None
        return {
            "address": made.address,
            "ca": made.ca,
            "bind_dn": directory.READER,
            "users_base": directory.USERS,
            "groups_base": directory.GROUPS,
        }

    def load(self, dravo: Dravo, wait: Any) -> None:
        """Add both sources, and let some days pass."""
        dravo.sources.add(VOLUNTEERS, VOLUNTEERS_LABEL)
        settings = {"id_column": "number", "groups_column": "team", "groups_between": ","}
        dravo.sources.change_import(
            VOLUNTEERS, kind="csv", settings=settings, policy=REGISTER, schedule="15 6 * * *"
        )
        dravo.sources.upload(VOLUNTEERS, "users.csv", register())
        self._run(dravo, wait, VOLUNTEERS, preview=True)
        dravo.sources.change_import(VOLUNTEERS, enabled=True)
        self._run(dravo, wait, VOLUNTEERS)
        dravo.assignments.add("plant-records", "viewer", source=VOLUNTEERS, group="Guides")
        if self.directory is not None:
            self._load_estates(dravo, wait)

    def _load_estates(self, dravo: Dravo, wait: Any) -> None:
        dravo.sources.add(ESTATES, ESTATES_LABEL)
        policy = {"match": "user_name", "domains": [scenario.DOMAIN]}
        dravo.sources.change_import(
            ESTATES, kind="ldap", settings=self.settings(), secret=directory.READER_PASSWORD, policy=policy
        )
        dravo.sources.check(ESTATES)
        self._run(dravo, wait, ESTATES, preview=True)
        dravo.sources.change_import(ESTATES, enabled=True)
        self._run(dravo, wait, ESTATES)
        dravo.assignments.add("glasshouse-controls", "reader", source=ESTATES, group="Gate keys")
        self._change(
            *(self._added(uid, given, family) for uid, given, family in CREW[14:]),
            _titled("stellan.nyberg", "Water and energy lead"),
        )
        self._run(dravo, wait, ESTATES, whole=True)
        self._change(
            f"dn: {user_dn('ivo.tanner')}\nchangetype: delete\n", _titled("kit.larwood", "Ground crew lead")
        )
        self._run(dravo, wait, ESTATES, whole=True)
        assert self.directory is not None
        self.directory.stop()
        self._run(dravo, wait, ESTATES, whole=True)
        self.directory.start()
        # The season ends, and the whole crew is taken out in one go: more than is believed without being
        # looked at.
        self._change(
            *(f"dn: {user_dn(uid)}\nchangetype: delete\n" for uid, _, _ in CREW if uid != "ivo.tanner")
        )
        self._run(dravo, wait, ESTATES, whole=True)

    def _run(self, dravo: Dravo, wait: Any, key: str, **how: Any) -> None:
        run = dravo.sources.start_run(key, **how)["id"]
        wait(lambda: dravo.sources.run(key, run)["ended_at"] is not None, f"a run of {key}", 60)

    def _added(self, uid: str, given: str, family: str) -> str:
        entry = directory.user(
            uid, given, family, {"mail": [f"{uid}@crew.example"], "title": ["Ground crew"], "ou": ["Estates"]}
        )
        dn, _, rest = entry.rstrip("\n").partition("\n")
        return f"{dn}\nchangetype: add\n{rest}\n"

    def _change(self, *changes: str) -> None:
        assert self.directory is not None
        command = [
            "ldapmodify",
            "-x",
            "-H",
            self.directory.address,
            "-D",
            directory.ADMIN,
            "-w",
            directory.ADMIN_PASSWORD,
        ]
        subprocess.run(command, input="\n".join(changes), text=True, check=True, capture_output=True)

    def reconnect(self, dravo: Dravo) -> None:
        """Save the new port of a directory."""
        if self.directory is None or ESTATES not in {each["key"] for each in dravo.sources.list()}:
            return
        if dravo.sources.import_settings(ESTATES)["settings"]["address"] != self.directory.address:
            dravo.sources.change_import(
                ESTATES, settings={"address": self.directory.address}, secret=directory.READER_PASSWORD
            )


def _titled(uid: str, title: str) -> str:
    return f"dn: {user_dn(uid)}\nchangetype: modify\nreplace: title\ntitle: {title}\n"
