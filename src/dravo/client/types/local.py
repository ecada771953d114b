"""Local users and groups.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class LocalUser(TypedDict):
    """The attributes of a local user; empty for no value."""

    user_name: str
    given_name: str
    middle_name: str
    family_name: str
    honorific_prefix: str
    honorific_suffix: str
    display_name: str
    nick_name: str
    email: str
    work_phone: str
    mobile_phone: str
    title: str
    user_type: str
    employee_number: str
    organization: str
    division: str
    department: str
    cost_center: str
    manager: str
    street_address: str
    locality: str
    region: str
    postal_code: str
    country: str
    preferred_language: str
    locale: str
    time_zone: str
    profile_url: str
    active: bool
