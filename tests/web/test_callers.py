"""Limits count callers, not the addresses that one caller can take at will."""

from __future__ import annotations

import pytest
from flask import Flask

from dravo.web.callers import place, place_of


@pytest.mark.parametrize(
    ("address", "found"),
    [
        ("192.0.2.7", "192.0.2.7"),
        ("2001:db8:5:7:1::1", "2001:db8:5:7::/64"),
        ("2001:db8:5:7:ffff:0:0:9", "2001:db8:5:7::/64"),
        ("2001:db8:5:8::1", "2001:db8:5:8::/64"),
        # One who comes by IPv4 is the same whichever way the socket says it.
        ("::ffff:192.0.2.7", "192.0.2.7"),
        ("fe80::1%eth0", "fe80::/64"),
        ("", ""),
        ("a socket in a file", "a socket in a file"),
    ],
)
def test_addresses_that_one_caller_has_at_will_are_one_place(address: str, found: str) -> None:
    assert place_of(address) == found


def test_it_is_that_of_the_present_request() -> None:
    with Flask(__name__).test_request_context(environ_base={"REMOTE_ADDR": "2001:db8::9"}):
        assert place() == "2001:db8::/64"
