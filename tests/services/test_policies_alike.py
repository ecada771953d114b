"""The same records and the same policy have the same result by inbound SCIM, import and sign-in: the same
users, conflicts, groups and access.
"""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from dravo.core.scim.resources import read_resource
from dravo.core.scim.schemas import ENTERPRISE_URN, USER
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.imports import config as import_config
from dravo.services.policies import policies
from dravo.services.sign_in.jit_provisioning import JitOptions, JitProvisioner
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.verification import StepLog
from dravo.services.sources import policy as source_policies
from dravo.services.sources import sources
from dravo.services.sources.sources import SourceChange
from dravo.store import tables as t
from tests.directories import Reading
from tests.scale import sized
from tests.service_fixture import ServiceFixture

OWNED, FOREIGN = "fernhollow.example", "rootworks.example"
GROUPS = {"Red": "viewer", "Blue": "curator"}
LOGINS = ("Ida", "ove", "rosa", "ole")


@dataclass(frozen=True)
class Report:
    """What the source reports about one user."""

    login: str
    email: str
    job: str
    department: str
    groups: tuple[str, ...]


@dataclass(frozen=True)
class Rules:
    """A policy as far as it is the same for every connection type; expressions differ by their names."""

    match: str
    scoped: bool
    member_of: dict[str, Any]
    groups: dict[str, Any]
    makes: bool

    def document(self, names: dict[str, str]) -> dict[str, Any]:
        """Return the policy, with the names of the attributes of one connection type."""
        rows = {
            "userName": f"{names['login']} then lower",
            "title": f"{names['job']} then upper",
            f"{ENTERPRISE_URN}:department": names["department"],
            'emails[type eq "work"].value': names["email"],
        }
        return {
            "match": self.match,
            "users": 'department eq "Herbarium"' if self.scoped else "",
            "member_of": self.member_of,
            "groups": self.groups,
            "makes": self.makes,
            "domains": [OWNED],
            "attributes": [{"attribute": each, "expression": text} for each, text in rows.items()],
        }


class Organization(ServiceFixture):
    """An organization that knows two users by another source, and learns others by one connection type."""

    connection_type = ""

    def begin(self, rules: Rules) -> None:
        self.unguarded().application()
        known = self.source("known", OWNED)
        self.user(known, "rosa", emails=[{"value": f"rosa@{OWNED}"}])
        self.user(known, "ole", emails=[{"value": f"ole@{FOREIGN}"}])
        self.known = {row.id for row in self.rows(t.user)}
        self.last: dict[str, Report] = {}
        self.connect(rules)

    def connect(self, rules: Rules) -> None:
        """Add the source with its policy."""
        raise NotImplementedError

    def report(self, report: Report) -> None:
        """Report one user, and let everything come to rest."""
        self.last[report.login] = report
        self.send(report)
        for row in self.rows(t.group, deleted_at=None):
            role = GROUPS.get(row.display_name)
            if role and not self.rows(t.assignment, group_id=row.id):
                wish = AssignmentRequest("records", role, group=row.id)
                assignments.add(self.ctx, self.caller, wish)
        recompute.process_marks(self.ctx)

    def send(self, report: Report) -> None:
        """Report one user by the connection type."""
        raise NotImplementedError

    def result(self) -> dict[str, Any]:
        """Return the users with their values and access, and the names in conflict."""
        waiting = {row.user_id for row in self.rows(t.record, undecided=True)}
        keys = {row.id: row.key for row in self.rows(t.role)}
        roles: dict[str, set[str]] = {}
        for row in self.rows(t.access, until_at=None):
            roles.setdefault(row.user_id, set()).add(keys[row.role_id])
        return {
            "users": {
                row.user_name: (
                    row.active,
                    row.id in self.known,
                    row.attributes.get("title"),
                    sorted(roles.get(row.id, ())),
                )
                for row in self.rows(t.user)
                if row.id not in waiting
            },
            "conflicts": sorted(
                (row.entry["user"]["userName"], row.kind) for row in self.rows(t.conflict, status="open")
            ),
        }


class ByScim(Organization):
    """By inbound SCIM."""

    def connect(self, rules: Rules) -> None:
        self.staff = self.source("staff", OWNED)
        names = {
            "login": "userName",
            "job": "title",
            "department": "department",
            "email": "emails.value then first",
        }
        policies.change(self.ctx, self.caller, "staff", "inbound_scim", rules.document(names))
        self.ids: dict[str, str] = {}
        self.groups = {name: self.group(self.staff, name) for name in GROUPS}
        self.members: dict[str, set[str]] = {name: set() for name in GROUPS}

    def send(self, report: Report) -> None:
        sent = {
            "userName": report.login,
            "title": report.job,
            "emails": [{"value": report.email, "type": "work"}] if report.email else [],
            ENTERPRISE_URN: {"department": report.department},
        }
        data = read_resource(sent, USER)
        if report.login in self.ids:
            self.intake.replace_user(self.staff, self.ids[report.login], data)
        else:
            self.ids[report.login] = self.intake.create_user(self.staff, data).id
        record = self.ids[report.login]
        for name, listed in self.members.items():
            if name in report.groups and record not in listed:
                self.add(self.staff, self.groups[name], record)
                listed.add(record)
            elif name not in report.groups and record in listed:
                self.take_out(self.staff, self.groups[name], record)
                listed.remove(record)


class ByImport(Organization):
    """By an import of a file."""

    def connect(self, rules: Rules) -> None:
        names = {"login": "login", "job": "job", "department": "dept", "email": "mail"}
        settings_ = {"groups_column": "teams", "groups_between": "|", "id_column": "login"}
        self.reading = Reading(self, "csv", settings_, key="staff")
        policies.change(self.ctx, self.caller, "staff", "import", rules.document(names))
        sources.change(self.ctx, self.caller, "staff", SourceChange(domains=[OWNED]))

    def send(self, report: Report) -> None:
        lines = ["login;mail;job;dept;teams"]
        # A group that nobody is in any more would not be known by its name.
        lines += ["keeper;;Keeper;Herbarium;Red|Blue"]
        for each in self.last.values():
            fields = (each.login, each.email, each.job, each.department, "|".join(each.groups))
            lines.append(";".join(fields))
        content = "\n".join(lines).encode()
        import_config.put_file(self.ctx, self.caller, "staff", "users.csv", content)
        run = self.reading.run(whole=True)
        assert run["status"] == "done", run


class BySignIn(Organization):
    """By sign-ins."""

    def connect(self, rules: Rules) -> None:
        self.staff = self.source("staff", OWNED)
        sign_in_settings.change(self.ctx, self.caller, "staff", {"protocol": "saml"})
        names = {"login": "login", "job": "job", "department": "dept", "email": "mail"}
        given_ = rules.document(names) | {"groups_from": ["teams"]}
        policies.change(self.ctx, self.caller, "staff", "sign_in", given_)

    def send(self, report: Report) -> None:
        with self.ctx.database.reading() as connection:
            source, row = source_policies.sign_in_of(connection, "staff")
        claims = {
            "login": [report.login],
            "mail": [report.email] if report.email else [],
            "job": [report.job],
            "dept": [report.department],
            "teams": list(report.groups),
        }
        proved = VerifiedIdentity("https://id.rootworks.example", report.login, claims)
        options = JitOptions(says_verified=False)
        policy = source_policies.sign_in_policy(row)
        one = JitProvisioner(self.ctx, source, policy, proved, StepLog(), options)
        try:
            one.take(one.user())
        except SignInRefused:
            return


CHOICES = [
    {"which": "all"},
    {"which": "named", "names": ["Red"]},
    {"which": "pattern", "pattern": "^B"},
]
RULES = st.builds(
    Rules,
    match=st.sampled_from(["ask", "user_name", "email"]),
    scoped=st.booleans(),
    member_of=st.sampled_from(CHOICES),
    groups=st.sampled_from([*CHOICES, {"which": "none"}]),
    makes=st.booleans(),
)


@st.composite
def sequences(draw: st.DrawFn) -> list[Report]:
    """Return reports about a few users. What decides whether a user is in scope stays the same for each: who
    leaves the scope is a leaver for a source that reports it, and a refused sign-in changes nobody.
    """
    fixed = {
        login: (
            draw(st.sampled_from([f"{login.lower()}@{OWNED}", f"{login.lower()}@{FOREIGN}", ""])),
            draw(st.sampled_from(["Herbarium", "Estates"])),
            draw(st.sampled_from([("Red",), ("Blue",), ("Red", "Blue"), ()])),
        )
        for login in LOGINS
    }
    reports = draw(
        st.lists(st.tuples(st.sampled_from(LOGINS), st.sampled_from(["guide", "cook"])), max_size=6)
    )
    return [Report(login, fixed[login][0], job, fixed[login][1], fixed[login][2]) for login, job in reports]


@settings(max_examples=sized(12, 300), suppress_health_check=[HealthCheck.too_slow])
@given(rules=RULES, reports=sequences())
def test_every_connection_type_finds_the_same(rules: Rules, reports: list[Report]) -> None:
    found = {}
    for kind in (ByScim, ByImport, BySignIn):
        with tempfile.TemporaryDirectory(dir="/dev/shm" if Path("/dev/shm").exists() else None) as folder:
            organization = kind(Path(folder))
            organization.begin(rules)
            for report in reports:
                organization.report(report)
            result = organization.result()
            organization.ctx.close()
        result["users"].pop("keeper", None)
        found[kind.__name__] = result
    assert found["ByScim"] == found["ByImport"] == found["BySignIn"], (rules, reports, found)
