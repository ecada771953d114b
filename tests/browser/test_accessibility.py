"""Every page and dialog of the console, in light and dark: axe finds nothing by WCAG 2.2 AA, and nothing is
wider than the window.

The pages are those of the demo. Each is opened once and looked at in light, in dark and, some of them, on a
narrow screen. Nothing is
saved: a dialog is left by Escape.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable
from typing import Any, NamedTuple

import httpx
import pytest
from playwright.sync_api import Browser, Error, Page, expect

from dravo.demo import scenario
from dravo.demo.volunteers import code_to
from tests.browser.conftest import PATIENCE_MS, TAGS, axe_violations, find_and_choose, signed_in_state
from tests.harness import RunningDemo
from tests.scale import NIGHTLY

TOO_WIDE = """() => document.documentElement.scrollWidth <= window.innerWidth ? []
  : [...document.querySelectorAll('*')]
  .filter(each => each.getBoundingClientRect().right > window.innerWidth && !each.closest('.scroll'))
  .map(each => `${each.tagName} ${each.className} ${each.textContent.slice(0, 40)}`)"""
# A theme changes nothing but colors: every other rule is tried in one of them.
COLORS = ["color-contrast", "link-in-text-block"]


# What is also looked at on a narrow screen.
NARROW = (
    "users",
    "invitations",
    "groups",
    "matrix",
    "compare two days",
    "simulate",
    "list",
    "tasks",
    "sources",
    "activity",
    "settings",
    "operators",
    "organization settings",
    "notifications",
    "events and messages",
    "nowhere",
)


class State(NamedTuple):
    """A page, and what is done on it until it is previewed."""

    path: str
    act: Callable[[Page], object] | None = None


def opens(
    button: str, *, exact: bool = False, then: Callable[[Page], object] | None = None
) -> Callable[[Page], None]:
    """Open a dialog by its button."""

    def act(page: Page) -> None:
        # While a page is still being filled, a button can be drawn again under the pointer.
        for _ in range(3):
            page.get_by_role("button", name=button, exact=exact).first.click()
            with contextlib.suppress(Error):
                page.get_by_role("dialog").wait_for(timeout=PATIENCE_MS / 4)
                break
        page.get_by_role("dialog").wait_for()
        if then is not None:
            then(page)

    return act


def fill(page: Page, label: str, text: str) -> None:
    page.get_by_role("dialog").get_by_label(label).first.fill(text)


def fill_rule(page: Page, text: str) -> None:
    page.get_by_role("dialog").get_by_role("textbox", name="Rule", exact=True).fill(text)


def pick(page: Page, label: str, text: str) -> None:
    find_and_choose(page.get_by_role("combobox", name=label).first, text)


def give_role(kind: str, *steps: Callable[[Page], object]) -> Callable[[Page], None]:
    def act(page: Page) -> None:
        page.get_by_role("button", name="Assign role").click()
        page.get_by_role("dialog").get_by_role("radio", name=kind, exact=True).check()
        for step in steps:
            step(page)

    return act


def submitted(button: str, refused: str) -> Callable[[Page], object]:
    """Send a dialog's form, which is refused with words."""

    def act(page: Page) -> None:
        page.get_by_role("dialog").get_by_role("button", name=button).click()
        expect(page.get_by_role("dialog")).to_contain_text(refused)

    return act


def search(page: Page) -> None:
    page.get_by_role("heading", level=1).wait_for()
    page.keyboard.press("/")
    page.get_by_role("dialog").get_by_role("textbox").fill("una")
    page.get_by_role("dialog").get_by_role("link").first.wait_for()


def why_not(page: Page) -> None:
    page.get_by_role("combobox", name="Explain missing access").click()
    page.get_by_role("option").first.click()
    expect(page.get_by_role("status").first).to_contain_text("no access")


def expression_result(page: Page) -> None:
    page.get_by_role("combobox", name="Preview with user").click()
    page.keyboard.type("zofia")
    page.get_by_role("option", name="Zofia").first.click()
    page.get_by_role("button", name="Check again").click()
    page.get_by_role("status", name="Connection check").wait_for()


def open_row(page: Page) -> None:
    page.get_by_role("button", name="Open").first.click()


STATUSES: dict[str, dict[str, State]] = {
    "overview": {
        "overview": State("/"),
        "activity": State("/activity"),
        "activity with trouble only": State("/activity?trouble=yes"),
        "search": State("/", search),
        "nowhere": State("/nowhere"),
        "settings": State("/settings"),
        "operators": State("/settings/operators"),
        "organization settings": State("/settings/organization"),
        "notifications": State("/settings/notifications"),
        "notification rule": State("/settings/notifications", opens("Create rule")),
        "text of an email": State("/settings/notifications", opens("Edit text")),
        "events and messages": State("/settings/messages"),
        "announcement": State("/settings/messages", opens("Create announcement")),
        "second factor": State("/settings", lambda page: page.get_by_role("button", name="Set up").click()),
        "password": State("/settings", opens("Change password")),
        "token": State("/settings", opens("Create token")),
        "operator": State("/settings/operators", opens("Create operator")),
        "undo": State("/activity?kind=change", opens("Undo")),
        "access requests": State("/access/requests", opens("Approve")),
    },
    "sources": {
        "sources": State("/sources"),
        "new source": State("/sources", opens("Add source")),
        "inbound SCIM": State("/sources/staff"),
        "requests": State("/sources/staff/requests", open_row),
        "schemas": State("/sources/staff/schemas"),
        "new schema": State(
            "/sources/staff/schemas", opens("Add schema", then=lambda page: fill(page, "Schema as JSON", "{"))
        ),
        "token": State("/sources/staff", opens("Rotate", exact=True)),
        "runs": State("/sources/estates/runs"),
        "a held run": State("/sources/estates/runs", opens("Approve removals")),
        "policy of an import": State("/sources/volunteers/policy"),
        "priority": State("/sources/volunteers/policy", opens("Edit priority")),
        "conflicts": State("/sources/estates/conflicts"),
        "edit a source": State("/sources/staff", opens("Edit", exact=True)),
        "retire a source": State("/sources/volunteers", opens("Retire")),
        "a conflict": State("/sources/estates/conflicts", opens("Create user")),
        "connection": State("/sources/volunteers/import"),
        "SAML": State("/sources/contractors"),
        "traces": State("/sources/contractors/sign-ins", open_row),
        "policy of a sign-in": State("/sources/contractors/sign-in-policy"),
        "emailed code": State("/sources/volunteers/sign-in"),
    },
    "users": {
        "users": State("/users"),
        "no user fits": State("/users?q=nobody-of-that-name"),
        "a user": State("/users/{user}"),
        "an inactive user": State("/users/{inactive}"),
        "a leaver": State("/users/{leaver}"),
        "a local user": State("/users/{local}"),
        "why not": State("/users/{leaver}", why_not),
        "a record of somebody else": State("/users/{user}", opens("Link to another user")),
        "new user": State(
            "/users", opens("Create local user", then=submitted("Create", "The user name is missing."))
        ),
        "change a local user": State("/users/{local}", opens("Edit", exact=True)),
        "delete a local user": State("/users/{local}", opens("Delete", exact=True)),
        "mark a user": State("/users/{local}", opens("Mark user")),
        "marked users": State("/marked-users"),
        "invitations": State("/invitations"),
        "users to invite": State(
            "/invitations",
            opens(
                "Invite users", then=lambda page: fill(page, "Email addresses", "una@guests.example\nnobody")
            ),
        ),
        "a pending user": State("/users/ida.vosper@guests.example"),
        "groups": State("/groups"),
        "groups without a role": State("/groups?mapped=no"),
        "a local group": State("/groups/{group}"),
        "authority of a group": State(
            "/groups/{group_of_source}", opens("Edit who manages the members", exact=True)
        ),
        "new group": State("/groups", opens("Create group")),
        "new members": State(
            "/groups/{group}",
            opens("Add members", then=lambda page: fill(page, "Users: user names", "una.kerrigan\nnobody")),
        ),
        "remove a member": State("/groups/{group}", opens("Remove")),
    },
    "access": {
        "matrix": State("/access"),
        "matrix of the past": State("/access?at=2020-01-01"),
        "groups against applications": State("/access/groups"),
        "list": State("/access/list"),
        "compare two days": State("/access/changes?since=2020-01-01"),
        "compare two users": State("/access/users?one={user}&two={inactive}"),
        "simulate": State("/access/simulate?source=staff"),
        "reviews": State("/access/reviews"),
        "new review": State(
            "/access/reviews",
            opens("Create review", then=submitted("Create", "A label must have 1 to 200 characters.")),
        ),
        "a review": State("/reviews/{review}?application=plant-records"),
    },
    "applications": {
        "applications": State("/applications"),
        "new application": State("/applications", opens("Add application")),
        "role mapping": State("/applications/glasshouse-controls/mapping"),
        "users": State("/applications/glasshouse-controls/users"),
        "seats": State("/applications/glasshouse-controls/seats?who=waiting"),
        "accounts": State("/applications/plant-records/accounts"),
        "provisioned groups": State("/applications/glasshouse-controls/groups"),
        "no provisioned group": State("/applications/plant-records/groups"),
        "tasks": State("/applications/ticket-desk/tasks"),
        "drift": State("/applications/plant-records/drift"),
        "repair": State("/applications/plant-records/drift", opens("Repair", exact=True)),
        "a user from an account": State("/applications/plant-records/drift", opens("Create user")),
        "settings of an application": State("/applications/glasshouse-controls/settings", expression_result),
        "edit a role": State("/applications/glasshouse-controls/settings", opens("Edit role")),
        "edit an application": State("/applications/glasshouse-controls", opens("Edit", exact=True)),
        "delete an application": State("/applications/glasshouse-controls", opens("Delete", exact=True)),
        "seats of a plan": State("/applications/glasshouse-controls/settings", opens("Edit plan")),
        "tracked_only": State("/applications/payslips/settings"),
        "setup of an application": State("/applications/plant-records/setup"),
        "manual tasks": State("/applications/payslips/manual"),
        "assign a group": State(
            "/applications/plant-records/mapping",
            give_role("Group", lambda page: pick(page, "Group", "Herbarium")),
        ),
        "assign a user": State(
            "/applications/plant-records/mapping",
            give_role("Users", lambda page: pick(page, "Users", "Una Kerrigan")),
        ),
        "assign by a bad pattern": State(
            "/applications/plant-records/mapping",
            give_role(
                "Group name pattern",
                lambda page: pick(page, "Source", "staff"),
                lambda page: fill(page, "Pattern of group names", "^desk-("),
                lambda page: expect(page.get_by_role("dialog")).to_contain_text("The pattern is invalid: "),
            ),
        ),
        "assign by a rule": State(
            "/applications/plant-records/mapping",
            give_role("Rule", lambda page: fill_rule(page, 'title sw "Head of"')),
        ),
        "assign by an expression": State(
            "/applications/plant-records/mapping",
            give_role(
                "Expression",
                lambda page: (
                    page.get_by_role("dialog").get_by_role("textbox", name="Expression").fill("userType")
                ),
                lambda page: expect(page.get_by_role("dialog")).to_contain_text("gain access"),
            ),
        ),
        "map several groups": State(
            "/applications/plant-records/mapping",
            opens(
                "Map several groups",
                then=lambda page: (
                    fill(page, "One line per mapping", "staff, Botanist, viewer"),
                    page.get_by_role("button", name="Preview").click(),
                    expect(
                        page.get_by_role("dialog").get_by_role("row").filter(has_text="invalid")
                    ).to_be_visible(),
                ),
            ),
        ),
        "access policy": State(
            "/applications/plant-records/mapping",
            opens(
                "Edit access policy",
                then=lambda page: expect(page.get_by_role("dialog")).to_contain_text("0 lose"),
            ),
        ),
        "remove an assignment": State("/applications/plant-records/mapping", opens("Unassign:")),
        "groups of a pattern": State("/applications/glasshouse-controls/mapping", opens(" match")),
    },
    "provisioning": {
        "tasks": State("/provisioning/tasks"),
        "failed tasks": State("/provisioning/tasks?status=failed"),
        "a failed task": State("/provisioning/tasks/{failed}"),
    },
}


def violations(page: Page, *, narrow: bool = False) -> list[str]:
    """Return what axe finds on the page, or in the dialog that is open on it, and what is wider than the
    window, in each view.
    """
    expect(page.get_by_role("progressbar")).to_have_count(0)
    found = [*axe_violations(page, TAGS), *too_wide(page)]
    # Dialogs are made of the same colors as pages: by day their colors in dark are left to the night.
    if NIGHTLY or page.get_by_role("dialog").count() == 0:
        page.emulate_media(color_scheme="dark", reduced_motion="reduce")
        if page.locator(".v-application").count():
            expect(page.locator(".v-application")).to_have_class(re.compile("v-theme--dark"))
        found += [f"in dark: {each}" for each in axe_violations(page, COLORS)]
        page.emulate_media(color_scheme="light", reduced_motion="reduce")
    if narrow:
        page.set_viewport_size({"width": 400, "height": 800})
        # Colors are the same on a narrow screen.
        narrowly = axe_violations(page, TAGS, () if NIGHTLY else ("color-contrast",))
        found += [f"on a narrow screen: {each}" for each in [*narrowly, *too_wide(page)]]
        page.set_viewport_size({"width": 1280, "height": 800})
    return found


def too_wide(page: Page) -> list[str]:
    return [f"wider than the window: {each}" for each in page.evaluate(TOO_WIDE)]


def closed(page: Page) -> bool:
    """Close what is open; return whether nothing is open any more."""
    for _ in range(3):
        if page.locator(".v-overlay--active").count() == 0:
            return True
        page.keyboard.press("Escape")
        with contextlib.suppress(AssertionError):
            expect(page.locator(".v-overlay--active")).to_have_count(0, timeout=300)
    return False


@pytest.fixture(scope="module")
def places(demo: RunningDemo) -> dict[str, str]:
    """Return the IDs that stand in addresses."""
    with demo.dravo as dravo:
        # The stand-ins have new addresses, so that what failed is tried again first.
        assert dravo.provisioning.summary(wait=60)["settled"]
        return {
            "user": dravo.users.get("zofia.wisniarska")["id"],
            "inactive": next(iter(dravo.users.list(status="inactive")))["id"],
            "leaver": next(iter(dravo.users.list(status="left")))["id"],
            "local": dravo.users.get(scenario.CONTRACTORS[0]["user_name"])["id"],
            "group": next(iter(dravo.groups.list(words="Open day team")))["id"],
            "group_of_source": next(iter(dravo.groups.list(words="Herbarium")))["id"],
            "review": next(iter(dravo.reviews.list()))["id"],
            "failed": next(iter(dravo.tasks.list(status="failed")))["id"],
        }


@pytest.fixture(scope="module")
def session(demo: RunningDemo) -> Any:
    answer = httpx.post(
        f"{demo.url}/api/v1/session", json=demo.ready["operator"], trust_env=False
    ).raise_for_status()
    return signed_in_state(answer.cookies["dravo_session"])


def opened(browser: Browser, demo: RunningDemo, session: Any = None) -> Page:
    context = browser.new_context(
        viewport={"width": 1280, "height": 800},
        color_scheme="light",
        base_url=demo.url,
        reduced_motion="reduce",
        storage_state=session,
    )
    page = context.new_page()
    page.set_default_timeout(PATIENCE_MS)
    return page


@pytest.mark.parametrize("part", STATUSES)
def test_every_page_and_dialog_is_accessible_and_fits(
    browser: Browser, demo: RunningDemo, places: dict[str, str], session: Any, part: str
) -> None:
    page = opened(browser, demo, session)
    wrong: dict[str, list[str]] = {}
    for name, status in STATUSES[part].items():
        path = status.path.format(**places)
        # A page is loaded once for all that is done on it.
        if page.url != f"{demo.url}{path}" or not closed(page):
            page.goto(path)
        page.get_by_role("heading", level=1).first.wait_for()
        page.locator("main .panel, main .empty").first.wait_for()
        try:
            if status.act is not None:
                status.act(page)
        except (Error, AssertionError) as failed:
            wrong[name] = ["cannot be reached", *str(failed).splitlines()[:3]]
            continue
        wrong[name] = violations(page, narrow=name in NARROW)
    page.context.close()
    told = [f"{name}: {each}" for name, found in wrong.items() for each in found]
    assert not told, "\n".join(told)


def test_every_event_of_the_demo_links_to_a_page(browser: Browser, demo: RunningDemo, session: Any) -> None:
    with demo.dravo as dravo:
        paths = {each["path"] for each in dravo.notifications.list()}
    assert len(paths) > 8
    page = opened(browser, demo, session)
    lost = []
    for path in sorted(paths):
        page.goto(path)
        heading = page.get_by_role("heading", level=1).first
        heading.wait_for()
        page.locator("main .panel, main .empty").first.wait_for()
        tabs = page.get_by_role("tab")
        chosen = page.get_by_role("tab", selected=True)
        if "not found" in heading.inner_text() or (tabs.count() and not chosen.count()):
            lost.append(path)
    page.context.close()
    assert lost == []


def test_pages_of_users_are_accessible_and_fit(browser: Browser, demo: RunningDemo) -> None:
    page = opened(browser, demo)
    wrong: dict[str, list[str]] = {}
    page.goto("/sign-in")
    page.get_by_label("Name", exact=True).fill("edmund.sallow")
    page.get_by_label("Password").fill("wrong")
    # While the answer is waited for, the button says so, also to those who hear the page.
    page.route("**/api/v1/session", lambda route: None)
    page.get_by_role("button", name="Sign in", exact=True).click()
    page.get_by_role("progressbar", name="Working").wait_for()
    page.unroute("**/api/v1/session")
    page.goto("/sign-in")
    page.get_by_label("Name", exact=True).fill("edmund.sallow")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("is wrong")
    wrong["wrong password"] = violations(page, narrow=True)
    address = "asked.by.maribel@volunteers.example"
    page.get_by_label("Email address").fill(address)
    page.get_by_role("button", name="Continue").click()
    page.get_by_role("heading", name="Check your email").wait_for()
    form = page.get_by_role("form", name="Emailed code")
    wrong["code"] = violations(page, narrow=True)
    form.get_by_role("textbox", name="Code").fill(code_to(demo.ready["stand_ins"]["mail"], address))
    form.get_by_role("button", name="Sign in").click()
    form.get_by_label("Given name").fill("Maribel")
    wrong["names"] = violations(page, narrow=True)
    form.get_by_label("Family name").fill("Quay")
    form.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Your applications").wait_for()
    wrong["your applications"] = violations(page, narrow=True)
    page.goto("/invitation#unknown")
    page.get_by_role("alert").wait_for()
    wrong["used invitation"] = violations(page, narrow=True)
    page.goto("/new-password#unknown")
    page.get_by_label("New password").wait_for()
    wrong["new password"] = violations(page, narrow=True)
    page.goto("/sso/contractors/start?sign_in_test=unknown")
    wrong["refused"] = violations(page, narrow=True)
    page.goto("/your-applications")
    page.get_by_role("button", name="Sign out").click()
    page.get_by_role("heading", name="You are signed out").wait_for()
    wrong["signed out"] = violations(page, narrow=True)
    page.context.close()
    told = [f"{name}: {each}" for name, found in wrong.items() for each in found]
    assert not told, "\n".join(told)
