from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.access import evaluation as access_evaluation
from dravo.core.access.conditions import read_condition, seen
from dravo.core.access.evaluation import (
    BY_DEFAULT,
    BY_KEEPING,
    CLOSED,
    EXCLUDED,
    GIVEN,
    NOTHING,
    compute_access,
    decide,
    memberships,
)
from dravo.core.access.patterns import (
    BY_KEY,
    BY_LABEL,
    BY_VALUE,
    GIVES,
    NO_MATCH,
    NO_SUCH_ROLE,
    NOT_CONFIRMED,
    SEVERAL_ROLES,
    Captured,
    compile_pattern,
    read_name,
    texts_of,
)
from dravo.core.access.types import (
    ALL_USERS,
    ASSIGNED,
    DEFAULT_ROLE,
    DIRECT_FIRST,
    GROUP,
    HIGHEST,
    KEEP,
    RULES_FIRST,
    AccessConfig,
    Assignment,
    Membership,
    Policy,
    Reason,
    UserFacts,
)
from dravo.core.days import day_of, read_span
from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import RoleLabel

EARLY, NOW, LATE = (Instant(f"2031-04-0{day}T00:00:00.000000Z") for day in (1, 2, 3))


def test_a_user_gets_the_roles_of_their_groups_and_their_own() -> None:
    mapped = {"herbarium": [Assignment("a1", "records", "viewer", group_id="herbarium")]}
    own = [Assignment("a2", "records", "curator", user_id="ada")]
    found = compute_access(UserFacts(True, [Membership("herbarium")], own), AccessConfig(mapped), NOW)
    assert found.roles == {
        ("records", "viewer"): (Reason("a1", "herbarium", kind=GROUP),),
        ("records", "curator"): (Reason("a2"),),
    }


def test_who_is_not_active_has_nothing() -> None:
    mapped = {"herbarium": [Assignment("a1", "records", "viewer", group_id="herbarium")]}
    assert compute_access(UserFacts(False, [Membership("herbarium")]), AccessConfig(mapped), NOW).roles == {}


def test_two_groups_that_give_the_same_role_are_two_reasons() -> None:
    mapped = {
        group: [Assignment(f"a-{group}", "records", "viewer", group_id=group)] for group in ("one", "two")
    }
    found = compute_access(UserFacts(True, [Membership("one"), Membership("two")]), AccessConfig(mapped), NOW)
    assert [reason.group_id for reason in found.roles["records", "viewer"]] == ["one", "two"]


def test_an_assignment_counts_from_its_first_instant_until_before_its_last() -> None:
    assignment = Assignment("a", "records", "viewer", user_id="ada", from_at=NOW, until_at=LATE)
    counts = {
        at: bool(compute_access(UserFacts(True, direct=[assignment]), AccessConfig(), at).roles)
        for at in (EARLY, NOW, LATE)
    }
    assert counts == {EARLY: False, NOW: True, LATE: False}
    assert [
        compute_access(UserFacts(True, direct=[assignment]), AccessConfig(), at).next_change
        for at in (EARLY, NOW, LATE)
    ] == [NOW, LATE, None]


def test_a_group_within_a_group_counts_and_says_its_way() -> None:
    parents = {"apprentices": ["horticulture"], "horticulture": ["everyone"]}
    found = {each.group_id: each.through for each in memberships(["apprentices"], parents)}
    assert found == {
        "apprentices": (),
        "horticulture": ("apprentices",),
        "everyone": ("apprentices", "horticulture"),
    }


@given(
    st.dictionaries(st.integers(0, 6), st.lists(st.integers(0, 6), max_size=3), max_size=7),
    st.lists(st.integers(0, 6), max_size=3),
)
def test_groups_in_circles_end(edges: dict[int, list[int]], start: list[int]) -> None:
    parents = {str(inner): [str(outer) for outer in outers] for inner, outers in edges.items()}
    found = [each.group_id for each in memberships([str(each) for each in start], parents)]
    assert len(found) == len(set(found))
    reachable = {str(each) for each in start}
    for _ in range(8):
        reachable |= {outer for inner in reachable for outer in parents.get(inner, [])}
    assert set(found) == reachable


# The table of docs/reference/access.md, line by line: one application, one user

ORDERS = {
    key: RoleLabel(key, key.title(), rank).order for rank, key in enumerate(("viewer", "recorder", "curator"))
}


def direct(role: str | None, **more: Any) -> Assignment:
    return Assignment(f"direct-{role}", "records", role, user_id="ada", **more)


def by_group(role: str | None, **more: Any) -> Assignment:
    return Assignment(f"group-{role}", "records", role, group_id="herbarium", **more)


def everyone(role: str | None, **more: Any) -> Assignment:
    return Assignment(f"all-{role}", "records", role, **more)


KEEPING = Policy(eligibility=ALL_USERS, fallback=KEEP)
DEFAULTING = Policy(fallback=DEFAULT_ROLE, default_role_id="viewer")


@pytest.mark.parametrize(
    ("policy", "assignments", "kept", "by", "roles"),
    [
        (Policy(), [], (), CLOSED, []),
        (Policy(), [direct("viewer")], (), GIVEN, ["viewer"]),
        (
            Policy(),
            [direct("viewer"), by_group("curator"), everyone("recorder")],
            (),
            GIVEN,
            ["viewer", "curator", "recorder"],
        ),
        (Policy(), [direct("viewer"), by_group(None, excludes=True)], (), EXCLUDED, []),
        (Policy(), [direct("viewer"), by_group(None, excludes=True, until_at=NOW)], (), GIVEN, ["viewer"]),
        (Policy(), [direct("viewer", from_at=LATE)], (), CLOSED, []),
        (Policy(eligibility=ALL_USERS), [direct("viewer", from_at=LATE)], (), NOTHING, []),
        (Policy(first=DIRECT_FIRST), [direct("viewer"), by_group("curator")], (), GIVEN, ["viewer"]),
        (Policy(first=DIRECT_FIRST), [direct(None), by_group("curator")], (), GIVEN, ["curator"]),
        (
            Policy(first=DIRECT_FIRST),
            [direct("viewer", until_at=NOW), by_group("curator")],
            (),
            GIVEN,
            ["curator"],
        ),
        (Policy(first=RULES_FIRST), [direct("viewer"), everyone("recorder")], (), GIVEN, ["recorder"]),
        (
            Policy(several=HIGHEST),
            [direct("viewer"), by_group("curator"), everyone("recorder")],
            (),
            GIVEN,
            ["curator"],
        ),
        (
            Policy(several=HIGHEST, first=DIRECT_FIRST),
            [direct("viewer"), by_group("curator")],
            (),
            GIVEN,
            ["viewer"],
        ),
        (DEFAULTING, [], (), CLOSED, []),
        (DEFAULTING, [by_group(None)], (), BY_DEFAULT, ["viewer"]),
        (DEFAULTING, [by_group(None), direct("curator")], (), GIVEN, ["curator"]),
        (replace(DEFAULTING, eligibility=ALL_USERS), [], (), BY_DEFAULT, ["viewer"]),
        (KEEPING, [], ("curator",), BY_KEEPING, ["curator"]),
        (KEEPING, [], (), NOTHING, []),
        (KEEPING, [direct("viewer")], ("curator",), GIVEN, ["viewer"]),
        (replace(KEEPING, eligibility=ASSIGNED), [], ("curator",), CLOSED, []),
        (Policy(), [by_group(None)], ("curator",), NOTHING, []),
    ],
)
def test_the_first_line_of_the_table_that_applies_decides(
    policy: Policy, assignments: list[Assignment], kept: tuple[str, ...], by: str, roles: list[str]
) -> None:
    decision = decide(policy, [(each, Reason(each.id)) for each in assignments], kept, ORDERS, NOW)
    assert (decision.by, list(decision.roles)) == (by, roles)
    assert all(decision.roles.values()), "every role has a reason"


def test_the_tables_of_code_and_docs_have_the_same_lines() -> None:
    text = (Path(__file__).parents[3] / "docs/reference/access.md").read_text()
    lines = [line for line in text.splitlines() if re.match(r"\| \d+ \|", line)]
    numbered = re.findall(r"^(\d)\. ", access_evaluation.__doc__ or "", re.M)
    assert [re.findall(r"\d", line)[0] for line in lines] == numbered


def test_a_rule_reaches_who_meets_it_and_newcomers_only_who_came_later() -> None:
    rule = Assignment("r", "records", "viewer", condition=read_condition('department eq "Herbarium"'))
    new = Assignment("n", "records", "curator", new_users_since=NOW)
    enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"

    def roles(department: str, known_since: Instant | None) -> set[str]:
        facts = UserFacts(
            True, seen=seen({enterprise: {"department": department}}, [], []), known_since=known_since
        )
        return {role for _, role in compute_access(facts, AccessConfig(general=(rule, new)), NOW).roles}

    assert roles("herbarium", EARLY) == {"viewer"}
    assert roles("Estates", NOW) == roles("Estates", None) == {"curator"}
    assert roles("Herbarium", LATE) == {"viewer", "curator"}


def test_a_group_counts_by_its_source_and_a_name_alone_is_refused() -> None:
    condition = read_condition('groups[display eq "Botanists" and source eq "staff"]')
    for source, holds in (("staff", True), ("estates", False)):
        user = seen({}, [{"value": "1", "display": "Botanists", "source": source}], [source])
        assert condition.holds(user) is holds
    two = [
        {"value": "1", "display": "Botanists", "source": "estates"},
        {"value": "2", "display": "Guides", "source": "staff"},
    ]
    assert not condition.holds(seen({}, two, [])), "name and source are of one and the same group"


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('groups.display eq "Botanists"', "A rule on a group name must also name the source."),
        ('groups[display eq "A" or source eq "staff"]', "A rule on a group name must also name the source."),
        ('not (groups.display eq "A")', "A rule on a group name must also name the source."),
        ("active eq true", "The rule is invalid"),
        ('departmnt eq "x"', "The rule is invalid"),
        ('title eq "x', "filter"),
        ("", "The rule is empty"),
        ("title", "filter"),
        ('password eq "x"', "no attribute"),
    ],
)
def test_a_condition_that_cannot_be_read_says_the_hint(text: str, words: str) -> None:
    with pytest.raises(InvalidInput, match=words) as told:
        read_condition(text)
    assert told.value.hint


def test_short_names_mean_the_enterprise_schema_and_texts_stay_unchanged() -> None:
    enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
    condition = read_condition('(department eq "department eq" and title co " costCenter ")')
    assert condition.holds({enterprise: {"department": "Department EQ"}, "title": "Of costCenter 5"})
    assert not condition.holds({"department": "department eq", "title": " costCenter "})


# Patterns


@pytest.mark.parametrize(
    ("name", "outcome", "role"),
    [
        ("ticketdesk-cashier", GIVES, "cashier"),
        ("TICKETDESK-Cashier", GIVES, "cashier"),
        ("ticketdesk-boss", NO_SUCH_ROLE, None),
        ("ticketdesk-supervisor", NOT_CONFIRMED, "supervisor"),
        ("desk-cashier", NO_MATCH, None),
        ("xticketdesk-cashier", NO_MATCH, None),
        ("ticketdesk-", NO_MATCH, None),
        ("ticketdesk-cashier ", NO_SUCH_ROLE, None),
    ],
)
def test_a_pattern_gives_the_role_that_it_captures(name: str, outcome: str, role: str | None) -> None:
    roles = Captured(
        texts_of([("cashier", "Cashier", None), ("supervisor", "Supervisor", None)]), "supervisor"
    )
    read = read_name("^ticketdesk-(.+)$", name, "g", roles, frozenset({"other"}))
    assert (read.outcome, read.role) == (outcome, role)
    confirmed = read_name("^ticketdesk-(.+)$", "ticketdesk-supervisor", "g", roles, frozenset({"g"}))
    assert (confirmed.outcome, confirmed.role) == (GIVES, "supervisor")


@pytest.mark.parametrize(
    ("name", "outcome", "role", "by"),
    [
        ("desk: cashier", GIVES, "cashier", BY_KEY),
        ("desk: Ticket Seller", GIVES, "cashier", BY_LABEL),
        ("desk: URN:DESK:SELL", GIVES, "cashier", BY_VALUE),
        # The key of one role is the label of another.
        ("desk: reader", GIVES, "reader", BY_KEY),
        ("desk: Same", SEVERAL_ROLES, None, BY_LABEL),
        # The highest role needs its confirmation by each of its texts.
        ("desk: Boss", NOT_CONFIRMED, "supervisor", BY_LABEL),
        ("desk: ROLE_ADMIN", NOT_CONFIRMED, "supervisor", BY_VALUE),
    ],
)
def test_the_captured_part_is_the_key_the_label_or_the_value_of_a_role(
    name: str, outcome: str, role: str | None, by: str
) -> None:
    texts = texts_of(
        [
            ("supervisor", "Boss", "ROLE_ADMIN"),
            ("cashier", "Ticket seller", "urn:desk:sell"),
            ("reader", "Same", None),
            ("writer", "Reader", None),
            ("helper", "same", None),
        ]
    )
    read = read_name("^desk: (.+)$", name, "g", Captured(texts, "supervisor"), frozenset())
    assert (read.outcome, read.role, read.by) == (outcome, role, by)


@pytest.mark.parametrize("text", ["", "ticketdesk-*", "(a)(b)", "(", "x" * 500, "(?P<a>x)(y)", "(a)\\1"])
def test_a_pattern_that_cannot_say_a_role_is_refused(text: str) -> None:
    with pytest.raises(InvalidInput) as told:
        compile_pattern(text)
    assert told.value.hint


# Days


def test_a_day_is_that_day_where_the_organization_is_the_last_one_included() -> None:
    span = read_span("2031-03-29", "2031-03-30", "Europe/Lisbon")
    # On 30 March 2031 the clocks there go forward: that day has 23 hours.
    assert (span["from_at"], span["until_at"]) == (
        "2031-03-29T00:00:00.000000Z",
        "2031-03-30T23:00:00.000000Z",
    )
    assert read_span("2031-01-01T00:00:00+02:00", None, "UTC") == {
        "from_at": "2030-12-31T22:00:00.000000Z",
        "from_day": None,
        "until_at": None,
        "until_day": None,
    }
    assert read_span("2031-01-01", "2031-01-01", "Asia/Tokyo")["until_at"] == "2031-01-01T15:00:00.000000Z"
    assert day_of(Instant("2031-01-01T15:00:00.000000Z"), "Asia/Tokyo") == "2031-01-02"


@pytest.mark.parametrize(
    ("from_", "until"),
    [("2031-02-30", None), ("2031-01-02", "2031-01-01"), ("tomorrow", None), ("0001-01-01", None)],
)
def test_a_span_that_cannot_be_is_refused(from_: str, until: str | None) -> None:
    with pytest.raises(InvalidInput) as told:
        read_span(from_, until, "UTC")
    assert told.value.hint
