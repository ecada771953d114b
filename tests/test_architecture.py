"""Rules of the code's layout that import-linter does not check; who may import whom is in pyproject.toml."""

from __future__ import annotations

import ast
import collections
import re
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src" / "dravo"


def test_only_the_store_knows_sql_and_only_one_module_knows_which() -> None:
    knowing = {
        file
        for file in SOURCE.rglob("*.py")
        if "sqlite" in file.read_text().lower().replace("sqlite_where", "")
    }
    knowing = {str(file.relative_to(SOURCE)) for file in knowing}
    assert knowing <= {
        "store/sqlite.py",
        "store/database.py",
        "store/memberships.py",
        "store/provisioning/managers.py",
        "store/recompute_marks.py",
        "store/received/records.py",
        "store/sources/observations.py",
        "demo/application_resources.py",
        "store/migrations/versions/0001_initial_schema.py",
        "store/migrations/versions/0009_scim_policy.py",
    }


# A provider's addresses, one of which is that for tokens.
NO_SECRETS = {"protocols/oidc/discovery.py"}


def test_no_secret_is_shown_by_what_holds_it() -> None:
    shown = []
    for file in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text())):
            if not isinstance(node, ast.ClassDef) or "dataclass" not in "".join(
                map(ast.unparse, node.decorator_list)
            ):
                continue
            for each in node.body:
                if isinstance(each, ast.AnnAssign) and re.fullmatch(
                    r".*(secret|password|token|verifier)", ast.unparse(each.target)
                ):
                    given = ast.unparse(each.value) if each.value else ""
                    if ast.unparse(each.annotation) != "bool" and "repr=False" not in given:
                        shown.append(f"{file.relative_to(SOURCE)} {node.name}.{ast.unparse(each.target)}")
    assert [each for each in shown if each.split()[0] not in NO_SECRETS] == []


def test_core_asks_neither_clock_nor_network_nor_storage() -> None:
    for file in (SOURCE / "core").rglob("*.py"):
        text = file.read_text()
        for foreign in (
            "datetime.now",
            "time.time",
            "import httpx",
            "import sqlalchemy",
            "import flask",
            "import socket",
            "random",
        ):
            assert foreign not in text, f"{file.name} uses {foreign}"


def test_a_package_has_up_to_sixteen_modules() -> None:
    modules = collections.Counter(
        file.parent
        for file in SOURCE.rglob("*.py")
        if file.name != "__init__.py" and "versions" not in file.parts
    )
    assert [str(folder.relative_to(SOURCE)) for folder, number in modules.items() if number > 16] == []


def test_every_module_says_what_it_is_for() -> None:
    for file in SOURCE.rglob("*.py"):
        if "versions" not in file.parts:
            assert ast.get_docstring(ast.parse(file.read_text())), f"{file} says nothing"


def test_the_conformance_table_names_tests_that_are_there() -> None:
    text = (SOURCE.parent.parent / "docs/reference/scim.md").read_text()
    named = re.findall(r"`([\w/]+\.py)::(\w+)`", text)
    assert len(named) > 40
    for file, name in named:
        path = SOURCE.parent.parent / (file if "/" in file else f"tests/conformance/{file}")
        assert f"def {name}(" in path.read_text(), name
    written = [
        name
        for path in (SOURCE.parent.parent / "tests/conformance").glob("test_*.py")
        for name in re.findall(r"def (test_\w+)\(", path.read_text())
    ]
    assert set(written) <= {name for _, name in named}, "a conformance test stands in no row"


def test_the_page_on_the_architecture_names_files_that_are_there() -> None:
    text = (SOURCE.parent.parent / "docs/architecture.md").read_text()
    named = set(re.findall(r"`((?:core|protocols|store|services|worker|web|client|cli|demo)/[\w/.]*)`", text))
    assert len(named) > 30
    assert [each for each in sorted(named) if not (SOURCE / each).exists()] == []


def test_only_the_store_builds_statements() -> None:
    building = [
        str(file.relative_to(SOURCE))
        for package in ("core", "protocols", "services", "worker", "web", "cli")
        for file in (SOURCE / package).rglob("*.py")
        if re.search(r"from sqlalchemy import [^\n]*\b(select|insert|update|delete|text)\b", file.read_text())
        or "store import tables" in file.read_text()
    ]
    assert building == []


def test_buttons_that_are_busy_say_so_to_everyone() -> None:
    console = SOURCE.parent.parent / "console/src"
    using = {
        file.name
        for file in console.rglob("*.vue")
        if re.search(r":loading|v-progress-circular", file.read_text())
    }
    assert using == {"BusyButton.vue"}
