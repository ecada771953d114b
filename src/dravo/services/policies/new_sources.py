"""Adds a source from a template."""

from __future__ import annotations

from dravo.core.identity.records import INBOUND_SCIM, SIGN_IN
from dravo.services.context import AppContext
from dravo.services.policies import policies
from dravo.services.security.permissions import Caller
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sources import sources, templates
from dravo.services.sources.sources import SourceLine


def add(ctx: AppContext, caller: Caller, key: str, label: str, template: str) -> SourceLine:
    """Add a source with the presets of a template.

    An import has its presets from the first save on, because its connection is not known before.

    Raises:
        InvalidInput, AlreadyExists.
    """
    chosen = templates.get(template)
    sources.add(ctx, caller, key, label, chosen.connection_type, template)
    if chosen.connection_type == INBOUND_SCIM and chosen.policy:
        policies.change(ctx, caller, key, INBOUND_SCIM, chosen.policy)
    elif chosen.connection_type == SIGN_IN:
        given = {"protocol": chosen.protocol, "settings": chosen.settings, "policy": chosen.policy or None}
        sign_in_settings.change(ctx, caller, key, given)
    return sources.one(ctx, key)
