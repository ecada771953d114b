"""The console's rooms for access: who gets which role, by groups, patterns, rules and policies."""

from __future__ import annotations

from collections.abc import Callable

from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, choose, find_and_choose
from tests.harness import Running, StandIn, eventually

Fresh = Callable[[str], str]
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


def test_five_groups_are_mapped_by_one_pattern_and_the_highest_role_is_confirmed(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, desk = fresh("source"), fresh("desk")
    provider = running.provider(source)
    running.application(desk, roles=("viewer", "recorder", "curator"))
    people = [provider.person(f"{source}-{number}", displayName=f"Person {number}") for number in range(5)]
    for number, name in enumerate(("desk-viewer", "Desk-Recorder", "desk-curator", "desk-clerk", "other-viewer")):
        provider.group(name, [people[number]])
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    page.get_by_role("button", name="Give a role").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Groups by a pattern").check()
    find_and_choose(dialog.get_by_role("combobox", name="Source"), source)
    dialog.get_by_label("Pattern of group names").fill("^desk-(")
    expect(dialog).to_contain_text("The pattern cannot be read")
    dialog.get_by_label("Pattern of group names").fill("^desk-(.+)$")
    expect(dialog).to_contain_text("It reaches 2 people now.")
    expect(dialog.get_by_role("row").filter(has_text="desk-clerk")).to_contain_text("no such role")
    expect(dialog).to_contain_text("2 gain")
    check_accessible(page)
    dialog.get_by_role("button", name="Give the role").click()
    row = page.get_by_role("row").filter(has_text="Groups like")
    expect(row).to_contain_text("nobody has confirmed that")
    row.get_by_role("button", name="4 groups fit").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("desk-curator may give the highest role").check()
    expect(dialog).to_contain_text("1 gain")
    dialog.get_by_role("button", name="Confirm these groups").click()
    expect(row).to_contain_text("3 people")
    with running.dravo as dravo:
        found = eventually(
            lambda: sorted((x["person"]["display_name"], x["role"]["key"]) for x in dravo.access(application=desk)), lambda s: len(s) == 3
        )
    assert found == [("Person 0", "viewer"), ("Person 1", "recorder"), ("Person 2", "curator")]


def test_a_rule_is_picked_and_shows_whom_it_reaches_and_somebody_is_kept_out(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    source, desk, department = fresh("source"), fresh("desk"), fresh("Herbarium")
    provider = running.provider(source)
    running.application(desk)
    for name in ("ada", "bob"):
        provider.person(f"{source}-{name}", displayName=f"{name.title()} {source}", **{ENTERPRISE: {"department": department}})
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    page.get_by_role("button", name="Give a role").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("A rule").check()
    dialog.get_by_label("Value").fill(department)
    dialog.get_by_role("button", name="Add").click()
    expect(dialog.get_by_label("The rule, as text")).to_have_value(f'department eq "{department}"')
    expect(dialog).to_contain_text(f"It reaches 2 people now: Ada {source}, Bob {source}.")
    expect(dialog).to_contain_text("2 gain")
    check_accessible(page)
    dialog.get_by_role("button", name="Give the role").click()
    expect(page.get_by_role("row").filter(has_text=f'department eq "{department}"')).to_contain_text("2 people")

    page.get_by_role("button", name="Give a role").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("One person").check()
    find_and_choose(dialog.get_by_role("combobox", name="Person"), f"{source}-bob", f"Bob {source}")
    choose(dialog.locator(".v-select").filter(has_text="Role"), "Keep out")
    expect(dialog).to_contain_text("1 lose")
    dialog.get_by_role("button", name="Keep them out").click()
    expect(dialog).to_be_hidden()
    expect(page.get_by_role("row").filter(has_text=f"Bob {source}")).to_contain_text("kept out")
    with running.dravo as dravo:
        assert [x["person"]["display_name"] for x in dravo.access(application=desk)] == [f"Ada {source}"]
        assert any("kept out" in sentence for sentence in dravo.people.why(f"{source}-bob", desk)["sentences"])


def test_users_who_come_to_meet_a_rule_for_the_highest_role_are_confirmed(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    source, desk, title = fresh("source"), fresh("desk"), fresh("Keeper")
    provider = running.provider(source)
    running.application(desk)
    provider.person(f"{source}-ada", displayName=f"Ada {source}", title=title)
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    page.get_by_role("button", name="Give a role").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("A rule").check()
    dialog.get_by_label("The rule, as text").fill(f'title eq "{title}"')
    choose(dialog.locator(".v-select").filter(has_text="Source that must report"), f"{source.capitalize()} directory")
    choose(dialog.locator(".v-select").filter(has_text="Role"), "Curator")
    expect(dialog).to_contain_text("1 gain")
    check_accessible(page)
    dialog.get_by_role("button", name="Give the role").click()
    expect(dialog).to_be_hidden()
    provider.person(f"{source}-bob", displayName=f"Bob {source}", title=title)
    page.reload()
    row = page.get_by_role("row").filter(has_text=f'title eq "{title}"')
    expect(row).to_contain_text("1 user meets the rule and waits for a confirmation")
    row.get_by_role("button", name="Confirm 1 user").click()
    dialog.get_by_label(f"Bob {source}").check()
    expect(dialog).to_contain_text("1 gain")
    check_accessible(page)
    dialog.get_by_role("button", name="Confirm users").click()
    expect(row).to_contain_text("2 people")
    with running.dravo as dravo:
        assert {x["person"]["display_name"] for x in dravo.access(application=desk, role="curator")} == {f"Ada {source}", f"Bob {source}"}


def test_many_groups_are_pasted_mended_and_mapped(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    source, desk = fresh("source"), fresh("desk")
    provider = running.provider(source)
    running.application(desk)
    provider.group("Botanists", [provider.person(f"{source}-ada", displayName="Ada Fern")])
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    page.get_by_role("button", name="Map many groups").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("One line each").fill(f"{source}, Botanists, viewer\n{source}, Botanist, viewer")
    dialog.get_by_role("button", name="Look at it first").click()
    expect(dialog.get_by_role("row").filter(has_text="wrong")).to_contain_text("There is no group with the name or id 'Botanist'")
    dialog.get_by_label("One line each").fill(f"{source}, Botanists, viewer")
    dialog.get_by_role("button", name="Look at it first").click()
    expect(dialog).to_contain_text("1 gain")
    dialog.get_by_role("button", name="Map these groups").click()
    expect(dialog).to_be_hidden()
    expect(page.get_by_role("row").filter(has_text="Botanists")).to_contain_text("1 person")


def test_how_an_application_decides_is_previewed_and_changed(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    source, desk = fresh("source"), fresh("desk")
    provider = running.provider(source)
    running.application(desk)
    provider.group("Nothing", [provider.person(f"{source}-ada", displayName=f"Ada {source}")])
    with running.dravo as dravo:
        dravo.assignments.add(desk, None, group="Nothing", source=source)
        assert list(dravo.access(application=desk)) == []
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    expect(page.get_by_text("Open to the assigned only. To whom nothing gives a role has no access.")).to_be_visible()
    page.get_by_role("button", name="Change how it decides").click()
    dialog = page.get_by_role("dialog")
    choose(dialog.locator(".v-select").filter(has_text="If nothing gives a role"), "The default role")
    choose(dialog.locator(".v-select").filter(has_text="Default role").last, "Viewer")
    expect(dialog).to_contain_text("1 gain")
    dialog.get_by_role("button", name="Decide like this").click()
    expect(page.get_by_text("To whom nothing gives a role is Viewer.")).to_be_visible()
    page.goto("/access/list")
    page.get_by_role("textbox", name="Person").fill(source)
    expect(page.get_by_role("row").filter(has_text=f"Ada {source}")).to_contain_text("the default role")


def test_too_many_removals_are_held_looked_at_and_let_through(open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh) -> None:
    source, desk = fresh("source"), fresh("desk")
    provider = running.provider(source)
    running.application(desk, app)
    people = [provider.person(f"{source}-{number}", displayName=f"Person {number} {source}") for number in range(14)]
    group = provider.group("Tills", people)
    with running.dravo as dravo:
        dravo.assignments.add(desk, "viewer", group=group)
        running.settled(desk)
        assert len(app.accounts()) == 14
        running.settled(desk)
        dravo.change_setting("guard_share", 10)
    try:
        for person in people[:12]:
            provider.take_out(group, person)
        page = open_page(signed_in=True)
        page.goto("/")
        label = desk.replace("-", " ").title()
        held = page.get_by_role("region", name=f"Held: {label}")
        expect(held).to_contain_text("10 go by themselves")
        assert sum(not each["active"] for each in app.accounts().values()) <= 10
        check_accessible(page)
        page.goto(f"/applications/{desk}")
        held.get_by_role("button", name="Look, and let through").click()
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_role("row").filter(has_text=f"Person 11 {source}")).to_contain_text("inactive, no role")
        check_accessible(page)
        dialog.get_by_role("button", name="Let them through").click()
        expect(dialog).to_contain_text("This is grave and was not confirmed.")
        dialog.get_by_label(f"Type {label} to confirm").fill(label)
        dialog.get_by_role("button", name="Let them through").click()
        expect(held).to_have_count(0)
        running.settled(desk)
        assert sum(not each["active"] for each in app.accounts().values()) == 12

        # An operator's own change is told as grave, and asks for the name.
        with running.dravo as dravo:
            dravo.change_setting("guard_least", 1)
        page.goto(f"/applications/{desk}/mapping")
        page.get_by_role("button", name="Take away: Tills, Viewer").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("This takes something from 2 people; 1 go without being confirmed.")
        check_accessible(page)
        dialog.get_by_label(f"Type {label} to confirm").fill(label)
        dialog.get_by_role("button", name="Take it away").click()
        eventually(lambda: not any(each["active"] for each in app.accounts().values()))
    finally:
        with running.dravo as dravo:
            dravo.change_setting("guard_share", 100)
            dravo.change_setting("guard_least", 10)


def test_the_matrix_is_filtered_looked_at_yesterday_and_exported(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    source, desk = fresh("source"), fresh("desk")
    running.provider(source).person(f"{source}-ada", displayName=f"Ada {source}")
    running.application(desk)
    with running.dravo as dravo:
        dravo.assignments.add(desk, "curator", person=f"{source}-ada")
    page = open_page(signed_in=True)
    page.goto(f"/access?application={desk}")
    row = page.get_by_role("row").filter(has_text=f"Ada {source}")
    expect(row).to_contain_text("Curator")
    with page.expect_download() as saved:
        page.get_by_role("link", name="CSV").click()
    assert saved.value.path().read_text().splitlines()[1].startswith(f"Ada {source},{source}-ada")
    page.get_by_role("textbox", name="At the end of the day").fill("2020-01-01")
    expect(page.get_by_text("Nobody has access that fits.")).to_be_visible()
    expect(page).to_have_url(f"{running.url}/access?application={desk}&at=2020-01-01")
    page.goto(f"/access/changes?since=2020-01-01&application={desk}")
    moved = page.get_by_role("row").filter(has_text=f"Ada {source}")
    expect(moved).to_contain_text("joined")
    expect(moved).to_contain_text("Curator: assignment to the person")
    page.goto("/access/simulate")
    find_and_choose(page.get_by_role("combobox", name="A person of the source"), source)
    expect(page.get_by_text("No group, rule or policy would give them a role.")).to_be_visible()
    with running.dravo as dravo:
        dravo.assignments.add(desk, "viewer", rule=f'title eq "Guide {source}"')
    page.get_by_label("Title").fill(f"Guide {source}")
    expect(page.get_by_role("row").filter(has_text=f'rule title eq "Guide {source}"')).to_contain_text("Viewer")
    check_accessible(page)


def test_a_change_is_taken_back_from_the_timeline(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    source, desk = fresh("source"), fresh("desk")
    running.provider(source).person(f"{source}-ada", displayName=f"Ada {source}")
    running.application(desk)
    with running.dravo as dravo:
        dravo.assignments.add(desk, "curator", person=f"{source}-ada")
    page = open_page(signed_in=True)
    page.goto(f"/activity?application={desk}&kind=change")
    page.get_by_role("row").filter(has_text="Added assignment").get_by_role("button", name="Take back").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1 lose")
    dialog.get_by_role("button", name="Take it back").click()
    expect(page.get_by_role("row").filter(has_text="Removed assignment")).to_be_visible()
    with running.dravo as dravo:
        assert list(dravo.access(application=desk)) == []


def test_an_application_owner_sees_their_own_application_and_no_other(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    mine, other, name = fresh("mine"), fresh("other"), fresh("owner")
    running.application(mine)
    running.application(other)
    page = open_page(signed_in=True)
    page.goto("/settings/operators")
    page.get_by_role("button", name="Add an operator").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name to sign in with").fill(name)
    choose(dialog.locator(".v-select").filter(has_text="Kind"), "application owner")
    find_and_choose(dialog.get_by_role("combobox", name="Applications"), mine.replace("-", " "), mine.replace("-", " ").title())
    page.keyboard.press("Escape")
    check_accessible(page)
    dialog.get_by_role("button", name="Add the operator").click()
    password = page.get_by_role("status").filter(has_text="shown this once").locator("code").inner_text()
    theirs = open_page()
    theirs.goto("/sign-in")
    theirs.get_by_label("Name").fill(name)
    theirs.get_by_label("Password").fill(password)
    theirs.get_by_role("button", name="Sign in").click()
    theirs.get_by_role("heading", name="Overview").wait_for()
    expect(theirs.get_by_role("link", name=mine.replace("-", " ").title())).to_be_visible()
    expect(theirs.get_by_text(other.replace("-", " ").title())).to_have_count(0)
    check_accessible(theirs)
    theirs.goto("/access")
    expect(theirs).to_have_url(f"{running.url}/access?application={mine}")
    theirs.goto(f"/applications/{other}")
    expect(theirs.get_by_role("alert")).to_contain_text("for your own applications only")


def test_groups_that_map_to_nothing_are_found(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    source, desk = fresh("source"), fresh("desk")
    provider = running.provider(source)
    running.application(desk)
    provider.group("First aiders")
    with running.dravo as dravo:
        dravo.assignments.add(desk, "viewer", group=provider.group("Guides"))
        assert [each["name"] for each in dravo.groups.list(source=source, mapped=False)] == ["First aiders"]
    page = open_page(signed_in=True)
    page.goto(f"/groups?source={source}")
    expect(page.get_by_role("row").filter(has_text="Guides")).to_be_visible()
    page.locator(".v-select").filter(has_text="Which").click()
    page.get_by_role("option", name="map to nothing").click()
    expect(page.get_by_role("row").filter(has_text="First aiders")).to_be_visible()
    expect(page.get_by_role("row").filter(has_text="Guides")).to_have_count(0)
