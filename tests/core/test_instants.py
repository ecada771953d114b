from __future__ import annotations

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.instants import as_datetime, instant, later, parse_instant


def test_instants_of_any_zone_sort_as_text() -> None:
    early, late = parse_instant("2031-04-02T11:15:00+02:00"), parse_instant("2031-04-02T09:15:00.5Z")
    assert early == "2031-04-02T09:15:00.000000Z"
    assert early < late
    assert later(early, 0.5) == late
    assert instant(as_datetime(late)) == late


@pytest.mark.parametrize("text", ["tomorrow", "2031-04-02T09:15:00", "2031-13-01T00:00:00Z", ""])
def test_an_invalid_instant_is_refused_with_an_example(text: str) -> None:
    with pytest.raises(InvalidInput, match=r"is not a time|has no time zone"):
        parse_instant(text)
