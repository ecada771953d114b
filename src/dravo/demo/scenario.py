"""The Fernhollow Botanic Trust: its staff, groups, applications and access. All of it is made up.

`staff()` and `groups()` are the users and groups of the staff provider; `crowd()` makes any number of further
users from a seed, for load.
"""

from __future__ import annotations

import random
import unicodedata
from typing import Any

DOMAIN = "fernhollow.example"
CORE = "urn:ietf:params:scim:schemas:core:2.0:User"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
SOURCE_KEY, SOURCE_LABEL = "staff", "Staff directory"

# Given name, family name, title; for each department.
DEPARTMENTS: dict[str, list[tuple[str, str, str]]] = {
    "Horticulture": [
        ("Isolde", "Marchbanks", "Head of Horticulture"),
        ("Tobias", "Wrenfield", "Senior gardener"),
        ("Amara", "Okonjo", "Gardener"),
        ("Piet", "van Lindhout", "Gardener"),
        ("Saoirse", "Tully", "Propagation lead"),
        ("Mateus", "Figueira", "Gardener"),
        ("Ngaire", "Halloway", "Glasshouse lead"),
        ("Bruno", "Castellan", "Gardener"),
        ("Yusra", "Haddadin", "Apprentice"),
        ("Finley", "Ashdown", "Apprentice"),
        ("Odile", "Perrault", "Orchid keeper"),
        ("Kaveh", "Rostami", "Alpine keeper"),
    ],
    "Herbarium": [
        ("Leocadia", "Vantongeren", "Keeper of the Herbarium"),
        ("Anselm", "Birchwood", "Botanist"),
        ("Zofia", "Wiśniarska", "Botanist"),
        ("Renaud", "Delacroix-Hume", "Mounting technician"),
        ("Ingrid", "Solheim", "Digitisation lead"),
        ("Tamsin", "Rookwood", "Botanist"),
        ("Hyun-woo", "Baek", "Digitisation assistant"),
        ("Elswyth", "Crane", "Librarian"),
    ],
    "Seed Bank": [
        ("Thaddeus", "Ferncastle", "Seed Bank manager"),
        ("Mirela", "Dragusanu", "Seed analyst"),
        ("Oluwaseun", "Adebanjo", "Seed analyst"),
        ("Clover", "Pennington-Reyes", "Cold store technician"),
        ("Haruto", "Minagawa", "Field collector"),
        ("Beatrix", "Lowe", "Data recorder"),
        ("Joaquín", "Serrano Vela", "Field collector"),
    ],
    "Education": [
        ("Philippa", "Marlow", "Head of Education"),
        ("Dilys", "Prosser", "School sessions"),
        ("Emeka", "Nwachuku", "Workshop leader"),
        ("Rosalind", "Thackeray-Bose", "Workshop leader"),
        ("Sam", "Underhill", "Course administrator"),
        ("Chiara", "Montefalco", "Guide"),
        ("Wren", "Halliday", "Guide"),
    ],
    "Visitor Services": [
        ("Gareth", "Pemberly", "Visitor Services manager"),
        ("Nadia", "Elmasri", "Shift supervisor"),
        ("Joss", "Tarrant", "Shift supervisor"),
        ("Bethany", "Quill", "Ticket office"),
        ("Ravi", "Chandrasen", "Ticket office"),
        ("Molly", "Ashgrove", "Ticket office"),
        ("Laszlo", "Varga-Nemes", "Ticket office"),
        ("Keziah", "Boateng", "Welcome desk"),
        ("Tom", "Hartley", "Welcome desk"),
        ("Aroha", "Ngatai", "Shop"),
        ("Sam", "Underhill", "Shop"),
        ("Delphine", "Mercier", "Café"),
    ],
    "Estates": [
        ("Caspian", "Rudd", "Head of Estates"),
        ("Hedda", "Lindqvist", "Facilities"),
        ("Morgan", "Trevelyan-Oke", "Electrician"),
        ("Ibrahim", "Sow", "Plumber"),
        ("Una", "Kerrigan", "Tree surgeon"),
        ("Dmitri", "Volkhonin", "Tree surgeon"),
        ("Grace", "Appleyard", "Workshop"),
        ("Stellan", "Nyberg", "Water and energy"),
    ],
    "People and Finance": [
        ("Honor", "Blackthorn", "Director of People and Finance"),
        ("Wilhelmina", "Achterberg", "Payroll"),
        ("Ola", "Fashanu", "Accounts"),
        ("Priya", "Venkataswamy", "Recruitment"),
        ("Edmund", "Sallow", "Identity administrator"),
        ("青木", "美咲", "Accounts"),
    ],
}

APPLICATIONS: list[dict[str, Any]] = [
    {
        "key": "plant-records",
        "label": "Plant Records",
        "owner": "leocadia.vantongeren",
        "token_days": 19,
        "roles": [("viewer", "Viewer", 10), ("recorder", "Recorder", 20), ("curator", "Curator", 30)],
        "groups": [
            ("Horticulture", "viewer"),
            ("Education", "viewer"),
            ("Herbarium", "recorder"),
            ("Seed Bank", "recorder"),
            ("Plant Curators", "curator"),
        ],
        "rules": [
            {
                "role": "viewer",
                "rule": 'title sw "Head of" or title sw "Director"',
                "note": "Heads of department can read the plant records.",
            }
        ],
        "stand_in": True,
        "settings": {"on_leaving": "delete", "reconcile_schedule": "0 3 * * *"},
    },
    {
        "key": "glasshouse-controls",
        "label": "Glasshouse Controls",
        "owner": "leocadia.vantongeren",
        "roles": [("reader", "Reader", 10), ("operator", "Operator", 20), ("engineer", "Engineer", 30)],
        # Paid by the head: one more would operate it than there are seats.
        "plans": [("remote", "Remote control", 10, 9)],
        "groups": [("Horticulture", "reader"), ("Estates", "operator", "remote")],
        "rules": [
            {
                "source": SOURCE_KEY,
                "pattern": "^glasshouse-(.+)$",
                "plan": "remote",
                "note": "Groups for glasshouse access.",
            },
        ],
        "stand_in": True,
        "settings": {
            "role_encoding": {"way": "groups"},
            "rate_limit": 50,
            "attributes": [
                {
                    "attribute": "displayName",
                    "expression": '"{name.familyName then upper}, {name.givenName}" else displayName',
                }
            ],
        },
    },
    {
        "key": "ticket-desk",
        "requestable": True,
        "label": "Ticket Desk",
        "owner": "gareth.pemberly",
        "roles": [("cashier", "Cashier", 10), ("supervisor", "Supervisor", 20), ("auditor", "Auditor", 5)],
        "plans": [("supervisor", "Supervisor desk", 10, 12)],
        "groups": [
            ("Visitor Services", "cashier"),
            ("Ticket Supervisors", "supervisor", "supervisor"),
            ("Night shift", "cashier"),
        ],
        "rules": [{"rule": 'title eq "Café"', "excludes": True, "note": "The café has its own till."}],
        "stand_in": True,
        "settings": {"on_losing_access": "deactivate"},
    },
    {
        "key": "payslips",
        "label": "Payslips",
        "owner": "wilhelmina.achterberg",
        "roles": [("clerk", "Payroll clerk", 10)],
        "groups": [("People and Finance", "clerk")],
        "tracked_only": True,
    },
    {
        "key": "seed-vault",
        "label": "Seed Vault",
        "owner": "thaddeus.ferncastle",
        "roles": [("keyholder", "Key holder", 10)],
        "users": [("thaddeus.ferncastle", "keyholder", "Holds the key to the cold store.")],
        "tracked_only": True,
    },
]
TRY = {"source": SOURCE_KEY, "group": "Herbarium", "application": "plant-records", "role": "recorder"}

# What is done in an application outside Dravo, found by comparing: by user name, None for an account
# that is removed.
BY_OTHER_HANDS: dict[str, dict[str, dict[str, Any] | None]] = {
    "plant-records": {
        "amara.okonjo": {"roles": [{"value": "curator", "display": "Curator", "primary": True}]},
        "zofia.wisniarska": {"title": "Volunteer"},
        "tobias.wrenfield": None,
    },
}
MADE_THERE: dict[str, list[dict[str, Any]]] = {
    "plant-records": [
        {
            "userName": "label-printer",
            "displayName": "Label printer",
            "active": True,
            "roles": [{"value": "viewer"}],
        }
    ],
}

# Outside contractors whom no source knows yet, entered by hand; the days until which they have something,
# counted from now.
CONTRACTORS: list[dict[str, Any]] = [
    {
        "user_name": "perdita.vane",
        "given_name": "Perdita",
        "family_name": "Vane",
        "title": "Glazier",
        "email": "perdita@vane-glazing.example",
        "gives": ("glasshouse-controls", "reader", 21),
    },
    {
        "user_name": "crispin.dunmore",
        "given_name": "Crispin",
        "family_name": "Dunmore",
        "title": "Photographer",
        "email": "crispin@dunmore-pictures.example",
    },
]
# Tracked-only applications: the users whose accounts an operator still has to create by hand.
BY_HAND: dict[str, tuple[str, ...]] = {"payslips": ("misaki.aoki",), "seed-vault": ()}

# A group of no source: users of several, and what it gives.
LOCAL_GROUP: dict[str, Any] = {
    "name": "Open day team",
    "users": ["una.kerrigan", "grace.appleyard", "molly.ashgrove", "crispin.dunmore"],
    "gives": ("plant-records", "viewer"),
}
# A review that is under way, with who was confirmed already.
REVIEW: dict[str, Any] = {
    "label": "Highest roles, autumn",
    "days": 30,
    "only": "highest_role",
    "confirmed": ("plant-records", ["thaddeus.ferncastle", "isolde.marchbanks"]),
}

LEAVER, INACTIVE = "finley.ashdown", "tom.hartley"
RENAMED = ("clover.pennington", "clover.pennington-reyes")

# What the applications have before Dravo comes: one account of another system in the way, one that may be
# taken over.
ALREADY_THERE = {
    "ticket-desk": [
        {"userName": "ravi.chandrasen", "displayName": "Ravi C.", "externalId": "till-0042", "active": True},
        {"userName": "aroha.ngatai", "displayName": "Aroha N.", "active": True},
    ]
}


def plain(name: str) -> str:
    """Return a name as a user name: lower case, no accents, hyphens for blanks."""
    known = {"青木": "misaki", "美咲": "aoki"}.get(name, name)
    text = "".join(c for c in unicodedata.normalize("NFKD", known) if not unicodedata.combining(c))
    return text.lower().replace(" ", "-").replace("'", "")


def staff() -> list[dict[str, Any]]:
    """Return the staff as SCIM Users, as the provider sends them; the first of a department is the manager of
    the others.
    """
    users: list[dict[str, Any]] = []
    taken: set[str] = set()
    for department, members in DEPARTMENTS.items():
        manager: str | None = None
        for given, family, title in members:
            name = f"{plain(given)}.{plain(family)}"
            # The same name twice: the second one gets a number.
            name = f"{name}2" if name in taken else name
            taken.add(name)
            users.append(user(name, given, family, title, department, len(users) + 1001))
            if manager is not None:
                users[-1][ENTERPRISE]["manager"] = {"value": manager}
            manager = manager or users[-1]["externalId"]
    return users


def user(user_name: str, given: str, family: str, title: str, department: str, number: int) -> dict[str, Any]:
    """Return one SCIM User of the Trust."""
    return {
        "schemas": [CORE, ENTERPRISE],
        "userName": user_name,
        "externalId": f"fb-{number}",
        "displayName": f"{given} {family}",
        "name": {"givenName": given, "familyName": family},
        "title": title,
        "active": True,
        "emails": [{"value": f"{user_name}@{DOMAIN}", "type": "work", "primary": True}],
        ENTERPRISE: {
            "employeeNumber": f"{number}",
            "department": department,
            "organization": "Fernhollow Botanic Trust",
        },
    }


def groups(users: list[dict[str, Any]]) -> dict[str, list[str]]:
    """Return the groups by name, with the user names of their members."""
    found: dict[str, list[str]] = {department: [] for department in DEPARTMENTS}
    for each in users:
        found[each[ENTERPRISE]["department"]].append(each["userName"])
    found["All staff"] = [each["userName"] for each in users]
    found["Plant Curators"] = ["leocadia.vantongeren", "thaddeus.ferncastle", "isolde.marchbanks"]
    found["Ticket Supervisors"] = ["gareth.pemberly", "nadia.elmasri", "joss.tarrant"]
    # Roles in the names of groups: one that gives its role, one that waits to be confirmed, one that fits
    # and means no role.
    found["glasshouse-operator"] = ["ngaire.halloway", "odile.perrault"]
    found["glasshouse-engineer"] = ["stellan.nyberg", "morgan.trevelyan-oke"]
    found["glasshouse-keys"] = ["isolde.marchbanks"]
    found["Night shift"] = []
    # Maps to nothing; and one that the directory knows by an id only.
    found["First aiders"] = ["una.kerrigan", "dilys.prosser", "grace.appleyard", "bethany.quill"]
    found["7c1e9f04-5b0e-4e0c-9d1e-2f6a3b8c4d10"] = ["caspian.rudd", "stellan.nyberg"]
    return found


GIVEN_NAMES = [
    "Alder",
    "Briony",
    "Cosmo",
    "Dahlia",
    "Ember",
    "Fern",
    "Gale",
    "Hazel",
    "Iris",
    "Juniper",
    "Kestrel",
    "Linden",
    "Maple",
    "Nettle",
    "Olive",
    "Poppy",
    "Quince",
    "Rowan",
    "Sorrel",
    "Tansy",
]
FAMILY_NAMES = [
    "Applecroft",
    "Barrowby",
    "Coldwell",
    "Dunmere",
    "Eastgarth",
    "Foxholt",
    "Greenhalgh",
    "Hawksmoor",
    "Ivesley",
    "Jarrowby",
    "Kingsnorth",
    "Larkhill",
    "Mossgrove",
    "Netherby",
]


def crowd(count: int, seed: int = 8) -> list[dict[str, Any]]:
    """Return a number of further users; the same for the same seed."""
    chance = random.Random(seed)
    departments = list(DEPARTMENTS)
    made = []
    for number in range(count):
        given, family = chance.choice(GIVEN_NAMES), chance.choice(FAMILY_NAMES)
        user_name = f"{plain(given)}.{plain(family)}.{number}"
        made.append(user(user_name, given, family, "Seasonal", chance.choice(departments), 10_000 + number))
    return made
