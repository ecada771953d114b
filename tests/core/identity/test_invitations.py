"""Lines of invitations: addresses with names, user names, and days."""

from __future__ import annotations

import pytest

from dravo.core.identity.invitations import (
    InvitationDefaults,
    KnownNames,
    plan_invitations,
    read_line,
)

NOTHING = KnownNames({}, {}, {}, {}, "2031-02-01")


@pytest.mark.parametrize(
    ("written", "values"),
    [
        ("ida@fernhollow.example", {"email": "ida@fernhollow.example"}),
        (
            ' "Ida Maria Vosper" <ida@fernhollow.example> ',
            {"email": "ida@fernhollow.example", "given_name": "Ida Maria", "family_name": "Vosper"},
        ),
        ("Ida <ida@fernhollow.example>", {"email": "ida@fernhollow.example", "given_name": "Ida"}),
        ("<ida@fernhollow.example>", {"email": "ida@fernhollow.example"}),
        # Two addresses are none; the line is rejected later.
        ("Ida <a@b.example> <c@d.example>", {"email": "Ida <a@b.example> <c@d.example>"}),
    ],
)
def test_an_address_may_come_with_names(written: str, values: dict[str, str]) -> None:
    assert read_line(1, {"email": written, "role": " "}, needs_email=True).values == values


def test_names_of_their_own_count_more_and_a_word_is_a_user_name_where_no_email_is_needed() -> None:
    cells = {"email": "Ida Vosper <ida@fernhollow.example>", "family_name": "Vosper-Reyes"}
    assert read_line(1, cells, needs_email=True).values == {**cells, "email": "ida@fernhollow.example"}
    assert read_line(1, {"email": "kiosk"}, needs_email=False).values == {"user_name": "kiosk"}
    assert read_line(1, {"email": "kiosk"}, needs_email=True).values == {"email": "kiosk"}


@pytest.mark.parametrize(
    "day", ["2031-02-31", "2031-01-31", "٢٠٣١-٠٣-٠١", "20310301", "tomorrow", "9999-12-31"]
)
def test_a_day_that_the_calendar_lacks_is_rejected_before_anything_happens(day: str) -> None:
    line = read_line(1, {"email": "ida@fernhollow.example"}, needs_email=True)
    plan = plan_invitations([line], NOTHING, InvitationDefaults(until=day))
    assert plan.items == [] and plan.rejected[0].message == f"'{day}' is not a day from today on."
    assert plan_invitations([line], NOTHING, InvitationDefaults(until="2031-02-28")).items
