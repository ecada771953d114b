"""The flow picture: users from sources through groups and roles into applications, cut down to what can be
read at a glance.
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
    """So many users of a source have a role, by a group or in another way.

    `way` is a group's id, or for other reasons their kind, such as "direct" or "rule"; `by_group` tells
    which.
    """

    source: str
    way: str
    by_group: bool
    role: str
    users: int


@dataclass(frozen=True)
class Node:
    """A place in the picture: in which stage, of what kind, whose (None: of several, bundled), how many flow
    through, how many it bundles.
    """

    id: str
    stage: str
    kind: str
    of: str | None
    users: int
    bundled: int = 0


class Band(NamedTuple):
    """So many users flow from one node to another."""

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
    """Return nodes, stage by stage with the largest first, and the bands between them; what is small is
    bundled.

    Args:
        held: who has what.
        application_of: for a role's id its application's.
        most_groups, most_roles, most_applications: how many nodes stand by themselves in a stage.
    """
    rows = [each for each in held if each.role in application_of]
    # Ways other than groups are few.
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
    """Return for each thing itself if it is one of the largest, else None: it is bundled."""
    sizes: Counter[Thing] = Counter()
    for each in rows:
        sizes[what(each)] += each.users
    largest = [thing for thing, _ in sorted(sizes.items(), key=lambda item: (-item[1], str(item[0])))]
    # One that would be bundled alone may stand by itself.
    kept = set(largest if len(largest) <= most + 1 else largest[:most])
    return {thing: thing if thing in kept else None for thing in largest}
