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
    users = [provider.user(f"{source}-{number}", displayName=f"User {number}") for number in range(5)]
    for number, name in enumerate(
        ("desk-viewer", "Desk-Recorder", "desk-curator", "desk-clerk", "other-viewer")
    ):
        provider.group(name, [users[number]])
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    page.get_by_role("button", name="Assign role").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("radio", name="Group name pattern").check()
    find_and_choose(dialog.get_by_role("combobox", name="Source"), source)
    dialog.get_by_label("Pattern of group names").fill("^desk-(")
    expect(dialog).to_contain_text("The pattern is invalid: ")
    dialog.get_by_label("Pattern of group names").fill("^desk-(.+)$")
    expect(dialog).to_contain_text("Matches 2 users.")
    expect(dialog.get_by_role("row").filter(has_text="desk-clerk")).to_contain_text("unknown role")
    expect(dialog).to_contain_text("2 gain")
    check_accessible(page)
    dialog.get_by_role("button", name="Assign", exact=True).click()
    row = page.get_by_role("row").filter(has_text="Groups that match")
    expect(row).to_contain_text(" would assign the highest role and is not confirmed.")
    row.get_by_role("button", name="4 groups match").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Confirm desk-curator for the highest role").check()
    expect(dialog).to_contain_text("1 gain")
    dialog.get_by_role("button", name="Confirm groups").click()
    expect(row).to_contain_text("3 users")
    with running.dravo as dravo:
        found = eventually(
            lambda: sorted(
                (x["user"]["display_name"], x["role"]["key"]) for x in dravo.access(application=desk)
            ),
            lambda s: len(s) == 3,
        )
    assert found == [("User 0", "viewer"), ("User 1", "recorder"), ("User 2", "curator")]


def test_a_rule_shows_its_matches_and_a_user_is_excluded(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, desk, department = fresh("source"), fresh("desk"), fresh("Herbarium")
    provider = running.provider(source)
    running.application(desk)
    for name in ("ada", "bob"):
        provider.user(
            f"{source}-{name}",
            displayName=f"{name.title()} {source}",
            **{ENTERPRISE: {"department": department}},
        )
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    page.get_by_role("button", name="Assign role").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("radio", name="Rule").check()
    dialog.get_by_label("Value").fill(department)
    dialog.get_by_role("button", name="Add", exact=True).click()
    expect(dialog.get_by_role("textbox", name="Rule", exact=True)).to_have_value(
        f'department eq "{department}"'
    )
    expect(dialog).to_contain_text(f"Matches 2 users: Ada {source}, Bob {source}.")
    expect(dialog).to_contain_text("2 gain")
    check_accessible(page)
    dialog.get_by_role("button", name="Assign", exact=True).click()
    expect(page.get_by_role("row").filter(has_text=f'department eq "{department}"')).to_contain_text(
        "2 users"
    )

    page.get_by_role("button", name="Assign role").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("radio", name="User").check()
    find_and_choose(dialog.get_by_role("combobox", name="User"), f"{source}-bob", f"Bob {source}")
    choose(dialog.locator(".v-select").filter(has_text="Role"), "Exclude")
    expect(dialog).to_contain_text("1 lose")
    dialog.get_by_role("button", name="Exclude").click()
    expect(dialog).to_be_hidden()
    expect(page.get_by_role("row").filter(has_text=f"Bob {source}")).to_contain_text("excluded")
    with running.dravo as dravo:
        assert [x["user"]["display_name"] for x in dravo.access(application=desk)] == [f"Ada {source}"]
        assert any("excluded" in sentence for sentence in dravo.users.why(f"{source}-bob", desk)["sentences"])


def test_later_matches_of_a_highest_role_rule_are_confirmed(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, desk, title = fresh("source"), fresh("desk"), fresh("Keeper")
    provider = running.provider(source)
    running.application(desk)
    provider.user(f"{source}-ada", displayName=f"Ada {source}", title=title)
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    page.get_by_role("button", name="Assign role").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("radio", name="Rule").check()
    dialog.get_by_role("textbox", name="Rule", exact=True).fill(f'title eq "{title}"')
    choose(
        dialog.locator(".v-select").filter(has_text="Only attributes from this source"),
        f"{source.capitalize()} directory",
    )
    choose(dialog.locator(".v-select").filter(has_text="Role"), "Curator")
    expect(dialog).to_contain_text("1 gain")
    check_accessible(page)
    dialog.get_by_role("button", name="Assign", exact=True).click()
    expect(dialog).to_be_hidden()
    provider.user(f"{source}-bob", displayName=f"Bob {source}", title=title)
    page.reload()
    row = page.get_by_role("row").filter(has_text=f'title eq "{title}"')
    expect(row).to_contain_text("1 user matches the rule and waits for confirmation")
    row.get_by_role("button", name="Confirm 1 user").click()
    dialog.get_by_label(f"Bob {source}").check()
    expect(dialog).to_contain_text("1 gain")
    check_accessible(page)
    dialog.get_by_role("button", name="Confirm users").click()
    expect(row).to_contain_text("2 users")
    with running.dravo as dravo:
        assert {x["user"]["display_name"] for x in dravo.access(application=desk, role="curator")} == {
            f"Ada {source}",
            f"Bob {source}",
        }


def test_many_groups_are_pasted_fixed_and_mapped(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, desk = fresh("source"), fresh("desk")
    provider = running.provider(source)
    running.application(desk)
    provider.group("Botanists", [provider.user(f"{source}-ada", displayName="Ada Fern")])
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    page.get_by_role("button", name="Map several groups").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("One line per mapping").fill(
        f"{source}, Botanists, viewer\n{source}, Botanist, viewer"
    )
    dialog.get_by_role("button", name="Preview").click()
    expect(dialog.get_by_role("row").filter(has_text="invalid")).to_contain_text(
        "There is no group with the name or ID 'Botanist'"
    )
    dialog.get_by_label("One line per mapping").fill(f"{source}, Botanists, viewer")
    dialog.get_by_role("button", name="Preview").click()
    expect(dialog).to_contain_text("1 gain")
    dialog.get_by_role("button", name="Map groups").click()
    expect(dialog).to_be_hidden()
    expect(page.get_by_role("row").filter(has_text="Botanists")).to_contain_text("1 user")


def test_how_an_application_decides_is_previewed_and_changed(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, desk = fresh("source"), fresh("desk")
    provider = running.provider(source)
    running.application(desk)
    provider.group("Nothing", [provider.user(f"{source}-ada", displayName=f"Ada {source}")])
    with running.dravo as dravo:
        dravo.assignments.add(desk, None, group="Nothing", source=source)
        assert list(dravo.access(application=desk)) == []
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    expect(
        page.get_by_text("Only assigned users are eligible. Users without an assignment have no access.")
    ).to_be_visible()
    page.get_by_role("button", name="Edit access policy").click()
    dialog = page.get_by_role("dialog")
    choose(dialog.locator(".v-select").filter(has_text="Users without an assignment"), "Fallback role")
    choose(dialog.locator(".v-select").filter(has_text="Fallback role").last, "Viewer")
    expect(dialog).to_contain_text("1 gain")
    dialog.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Users without an assignment get the role Viewer.")).to_be_visible()
    page.goto("/access/list")
    page.get_by_role("textbox", name="User").fill(source)
    expect(page.get_by_role("row").filter(has_text=f"Ada {source}")).to_contain_text("fallback role")


def test_removals_above_the_limit_are_held_shown_and_approved(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    # A long name is cut in the picture of the overview, and read aloud whole.
    source, desk = fresh("source-with-a-long-name"), fresh("desk")
    provider = running.provider(source)
    running.application(desk, app)
    users = [
        provider.user(f"{source}-{number}", displayName=f"User {number} {source}") for number in range(14)
    ]
    group = provider.group("Tills", users)
    with running.dravo as dravo:
        dravo.assignments.add(desk, "viewer", group=group)
        running.settled(desk)
        assert len(app.accounts()) == 14
        running.settled(desk)
        dravo.change_setting("removal_limit_percent", 10)
    try:
        for user in users[:12]:
            provider.take_out(group, user)
        page = open_page(signed_in=True)
        page.goto("/")
        label = desk.replace("-", " ").title()
        held = page.get_by_role("region", name=f"Held: {label}")
        expect(held).to_contain_text("removal limit of 10")
        assert sum(not each["active"] for each in app.accounts().values()) <= 10
        check_accessible(page)
        page.goto(f"/applications/{desk}")
        held.get_by_role("button", name="Approve", exact=True).click()
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_role("row").filter(has_text=f"User 11 {source}")).to_contain_text(
            "inactive, no role"
        )
        check_accessible(page)
        dialog.get_by_role("button", name="Approve", exact=True).click()
        expect(dialog).to_contain_text("This change needs a confirmation.")
        dialog.get_by_label(f"Type {label} to confirm").fill(label)
        dialog.get_by_role("button", name="Approve", exact=True).click()
        expect(held).to_have_count(0)
        running.settled(desk)
        assert sum(not each["active"] for each in app.accounts().values()) == 12

        # An operator's own change is told as serious, and asks for the name.
        with running.dravo as dravo:
            dravo.change_setting("removal_limit_minimum", 1)
        page.goto(f"/applications/{desk}/mapping")
        page.get_by_role("button", name="Unassign: Tills, Viewer").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text(
            "This change removes access from 2 users. More than 1 need a confirmation."
        )
        check_accessible(page)
        dialog.get_by_label(f"Type {label} to confirm").fill(label)
        dialog.get_by_role("button", name="Unassign").click()
        eventually(lambda: not any(each["active"] for each in app.accounts().values()))
    finally:
        with running.dravo as dravo:
            dravo.change_setting("removal_limit_percent", 100)
            dravo.change_setting("removal_limit_minimum", 10)


def test_the_matrix_is_filtered_looked_at_yesterday_and_exported(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, desk = fresh("source"), fresh("desk")
    running.provider(source).user(f"{source}-ada", displayName=f"Ada {source}")
    running.application(desk)
    with running.dravo as dravo:
        dravo.assignments.add(desk, "curator", user=f"{source}-ada")
    page = open_page(signed_in=True)
    page.goto(f"/access?application={desk}")
    row = page.get_by_role("row").filter(has_text=f"Ada {source}")
    expect(row).to_contain_text("Curator")
    with page.expect_download() as saved:
        page.get_by_role("link", name="CSV").click()
    assert saved.value.path().read_text().splitlines()[1].startswith(f"Ada {source},{source}-ada")
    page.get_by_role("textbox", name="Access at the end of").fill("2020-01-01")
    expect(page.get_by_text("No matching access")).to_be_visible()
    expect(page).to_have_url(f"{running.url}/access?application={desk}&at=2020-01-01")
    page.goto(f"/access/changes?since=2020-01-01&application={desk}")
    moved = page.get_by_role("row").filter(has_text=f"Ada {source}")
    expect(moved).to_contain_text("joined")
    expect(moved).to_contain_text("Curator: direct assignment")
    page.goto("/access/simulate")
    find_and_choose(page.get_by_role("combobox", name="Source"), source)
    expect(page.get_by_text("No group, rule or policy would give this user a role.")).to_be_visible()
    with running.dravo as dravo:
        dravo.assignments.add(desk, "viewer", rule=f'title eq "Guide {source}"')
    page.get_by_label("Title").fill(f"Guide {source}")
    expect(page.get_by_role("row").filter(has_text=f'rule title eq "Guide {source}"')).to_contain_text(
        "Viewer"
    )
    check_accessible(page)


def test_a_change_is_taken_back_from_the_timeline(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, desk = fresh("source"), fresh("desk")
    running.provider(source).user(f"{source}-ada", displayName=f"Ada {source}")
    running.application(desk)
    with running.dravo as dravo:
        dravo.assignments.add(desk, "curator", user=f"{source}-ada")
    page = open_page(signed_in=True)
    page.goto(f"/activity?application={desk}&kind=change")
    page.get_by_role("row").filter(has_text="Created assignment").get_by_role("button", name="Undo").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1 lose")
    dialog.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("row").filter(has_text="Deleted assignment")).to_be_visible()
    with running.dravo as dravo:
        assert list(dravo.access(application=desk)) == []


def test_an_application_owner_sees_their_own_application_and_no_other(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    mine, other, name = fresh("mine"), fresh("other"), fresh("owner")
    running.application(mine)
    running.application(other)
    page = open_page(signed_in=True)
    page.goto("/settings/operators")
    page.get_by_role("button", name="Create operator").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Sign-in name").fill(name)
    choose(dialog.locator(".v-select").filter(has_text="Kind"), "application owner")
    find_and_choose(
        dialog.get_by_role("combobox", name="Applications"),
        mine.replace("-", " "),
        mine.replace("-", " ").title(),
    )
    page.keyboard.press("Escape")
    check_accessible(page)
    dialog.get_by_role("button", name="Create", exact=True).click()
    password = page.get_by_role("status").filter(has_text="shown only once").locator("code").inner_text()
    theirs = open_page()
    theirs.goto("/sign-in")
    theirs.get_by_label("Name", exact=True).fill(name)
    theirs.get_by_label("Password").fill(password)
    theirs.get_by_role("button", name="Sign in").click()
    theirs.get_by_role("heading", name="Overview").wait_for()
    expect(theirs.get_by_role("link", name=mine.replace("-", " ").title())).to_be_visible()
    expect(theirs.get_by_text(other.replace("-", " ").title())).to_have_count(0)
    check_accessible(theirs)
    theirs.goto("/access")
    expect(theirs).to_have_url(f"{running.url}/access?application={mine}")
    theirs.goto(f"/applications/{other}")
    expect(theirs.get_by_role("alert")).to_contain_text(
        "Application owners can do this only for their own applications."
    )


def test_groups_that_map_to_nothing_are_found(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
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
    page.locator(".v-select").filter(has_text="Role mapping").click()
    page.get_by_role("option", name="not mapped").click()
    expect(page.get_by_role("row").filter(has_text="First aiders")).to_be_visible()
    expect(page.get_by_role("row").filter(has_text="Guides")).to_have_count(0)
