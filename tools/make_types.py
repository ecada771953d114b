"""Writes the client's types from the service's OpenAPI document, and the document itself for the console: make_types.py [--check]."""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from dravo.services.house import House
from dravo.web.app import api_document, create_app

ROOT = Path(__file__).resolve().parent.parent
TYPES = ROOT / "src/dravo/client/types.py"
DOCUMENT = ROOT / "console/openapi.json"
HEAD = '''"""What the management API gives, as types. Made from its OpenAPI document by tools/make_types.py; not edited by hand."""

from __future__ import annotations

from typing import Any, TypedDict
'''
SIMPLE = {"string": "str", "integer": "int", "number": "float", "boolean": "bool", "null": "None"}


def type_of(schema: dict[str, Any]) -> str:
    """Return the Python type that a JSON schema describes."""
    if "$ref" in schema:
        return str(schema["$ref"]).rpartition("/")[2]
    if "anyOf" in schema:
        return " | ".join(type_of(each) for each in schema["anyOf"])
    if schema.get("type") == "array":
        return f"list[{type_of(schema['items'])}]"
    if schema.get("type") == "object":
        inner = schema.get("additionalProperties")
        return f"dict[str, {type_of(inner)}]" if isinstance(inner, dict) and inner else "dict[str, Any]"
    return SIMPLE.get(schema.get("type", ""), "Any")


def definition(name: str, schema: dict[str, Any]) -> str:
    """Return one schema as a TypedDict; names that Python keeps for itself need the functional form."""
    fields = {field: type_of(inner) for field, inner in schema.get("properties", {}).items()}
    note = schema.get("description", name)
    if any(field in ("from", "class", "import") for field in fields):
        inner = ", ".join(f'"{field}": "{kind}"' for field, kind in fields.items())
        return f'# {note}\n{name} = TypedDict("{name}", {{{inner}}})'
    lines = "\n".join(f"    {field}: {kind}" for field, kind in fields.items())
    return f'class {name}(TypedDict):\n    """{note}"""\n\n{lines}'


def main() -> int:
    """Write both files, or with --check tell whether they are up to date."""
    with tempfile.TemporaryDirectory() as folder:
        house = House(Path(folder))
        document = api_document(create_app(house, "http://127.0.0.1:8420"))
        house.close()
    schemas = document["components"]["schemas"]
    wanted = {
        name: schema
        for name, schema in schemas.items()
        if schema.get("type") == "object" and not name.endswith(("Body", "Query", "Path", "Change")) and "Validation" not in name
    }
    made = {
        TYPES: HEAD + "\n\n" + "\n\n\n".join(definition(name, wanted[name]) for name in sorted(wanted)) + "\n",
        DOCUMENT: json.dumps(document, indent=1, sort_keys=True, default=str) + "\n",
    }
    stale = [path for path, text in made.items() if not path.exists() or path.read_text() != text]
    if "--check" in sys.argv:
        for path in stale:
            print(f"{path.relative_to(ROOT)} is not up to date: run tools/make_types.py")
        return 1 if stale else 0
    for path in stale:
        path.write_text(made[path])
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
