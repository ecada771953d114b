"""The flow picture: users from sources through groups and roles to applications, reduced to what fits the
page.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable, Iterable, Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple, TypeVar

SOURCE, GROUP, WAY, ROLE, APPLICATION = "source", "group", "way", "role", "application"
STAGES = (SOURCE, GROUP, ROLE, APPLICATION)
OTHERS = "others"
Thing = TypeVar("Thing", bound=Hashable)


class Held(NamedTuple):
    """A number of users of a source who have a role by a group or in another way.

    `way` is the ID of the group, or the kind of the reason, such as "direct" or "rule"; `by_group` tells
    which.
    """

    source: str
    way: str
    by_group: bool
    role: str
    users: int


@dataclass(frozen=True)
class Node:
    """A node of the picture: its stage, kind and object (None for a bundle), its users, and how many objects
    it bundles.
    """

    id: str
    stage: str
    kind: str
    of: str | None
    users: int
    bundled: int = 0


class Band(NamedTuple):
    """A number of users who flow from one node to another."""

    from_id: str
    to_id: str
    users: int


def picture(
    held: Iterable[Held],
    application_of: Mapping[str, str],
    most_groups: int,
    most_roles: int,
    most_applications: int,
) -> tuple[list[Node], list[Band]]:
    """Return nodes, stage by stage with the largest first, and the bands between them; small ones are
    bundled.

    Args:
        held: the access to show.
        application_of: the application of a role, by role ID.
        most_groups, most_roles, most_applications: how many nodes a stage shows unbundled.
    """
    rows = [each for each in held if each.role in application_of]
    # There are few kinds of reasons besides groups.
    group_of = _bundling([each for each in rows if each.by_group], lambda each: each.way, most_groups)
    application_in = _bundling(rows, lambda each: application_of[each.role], most_applications)
    role_of = _bundling(rows, lambda each: each.role, most_roles)
    users: Counter[str] = Counter()
    bands: Counter[tuple[str, str]] = Counter()
    made: dict[str, tuple[str, str, str | None]] = {}
    inside: dict[str, set[Hashable]] = {}
    for each in rows:
        kind, way = (GROUP, group_of[each.way]) if each.by_group else (WAY, each.way)
        role, application = role_of[each.role], application_in[application_of[each.role]]
        path = (
            (f"{SOURCE}:{each.source}", SOURCE, SOURCE, each.source, each.source),
            (f"{kind}:{way or OTHERS}", GROUP, kind, way, each.way),
            # Roles of one application are bundled with each other only.
            (f"{ROLE}:{role or f'{OTHERS}:{application or OTHERS}'}", ROLE, ROLE, role, each.role),
            (
                f"{APPLICATION}:{application or OTHERS}",
                APPLICATION,
                APPLICATION,
                application,
                application_of[each.role],
            ),
        )
        for node_id, stage, node_kind, of, what in path:
            users[node_id] += each.users
            made[node_id] = (stage, node_kind, of)
            inside.setdefault(node_id, set()).add(what)
        for (one, *_), (two, *_) in pairwise(path):
            bands[one, two] += each.users
    nodes = [
        Node(key, *made[key], users[key], 0 if made[key][2] is not None else len(inside[key])) for key in made
    ]
    nodes.sort(key=lambda node: (STAGES.index(node.stage), node.of is None, -node.users, node.id))
    return nodes, [Band(one, two, number) for (one, two), number in sorted(bands.items())]


def _bundling(rows: list[Held], what: Callable[[Held], Thing], most: int) -> dict[Thing, Thing | None]:
    """Return each object itself if it is one of the largest, else None for the bundle."""
    sizes: Counter[Thing] = Counter()
    for each in rows:
        sizes[what(each)] += each.users
    largest = [thing for thing, _ in sorted(sizes.items(), key=lambda item: (-item[1], str(item[0])))]
    # A single role is not bundled.
    kept = set(largest if len(largest) <= most + 1 else largest[:most])
    return {thing: thing if thing in kept else None for thing in largest}
