"""Rules that compile late build the same addresses as those of the library."""

from __future__ import annotations

from werkzeug.routing import Map, Rule

from dravo.web.app import create_app
from dravo.web.url_rules import QuickRule
from tests.service_fixture import ServiceFixture


def test_every_rule_builds_the_address_that_the_library_builds(services: ServiceFixture) -> None:
    rules = list(create_app(services.ctx, "http://127.0.0.1:1").url_map.iter_rules())
    assert rules and {type(rule) for rule in rules} == {QuickRule}
    for rule in rules:
        plain = Rule(rule.rule, defaults=rule.defaults, endpoint="plain")
        Map([plain], strict_slashes=False)
        values = dict.fromkeys(rule.arguments, "a b/ü") | {"beside": "x"}
        for append_unknown in (True, False):
            assert rule.build(values, append_unknown) == plain.build(values, append_unknown)
