"""Writes docs/….schema.json from the types of the capture format and of comparisons.

The descriptions of fields are the comments beside them in the source.
"""

import ast
import inspect
import json
import textwrap
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

from dunmist.advice import Compared
from dunmist.captures.schema import Line

DOCS = Path(__file__).parent
ROOMS = ("advice", "captures", "computer", "sampling")


def schemas() -> dict[str, dict[str, Any]]:
    """Return the JSON Schema (draft 2020-12) of each format by the name of its file."""
    capture = msgspec.json.schema(Line)
    capture = {"title": "One line of a Dunmist capture", **capture}
    both = {"capture": capture, "comparison": msgspec.json.schema(Compared)}
    return {
        name: {"$schema": "https://json-schema.org/draft/2020-12/schema", **described(schema)}
        for name, schema in both.items()
    }


def described(schema: dict[str, Any]) -> dict[str, Any]:
    """Return a schema with the name of each array's entries and a description of each field."""
    types = {kind.__name__: kind for kind in _structs(msgspec.Struct)}
    for name, definition in schema["$defs"].items():
        if "description" in definition:
            definition["description"] = " ".join(definition["description"].split())
        comments = field_comments(types[name]) if name in types else {}
        fields = definition.get("properties") or {}
        if "prefixItems" in definition:
            names = types[name].__struct_fields__
            fields = dict(zip(names, definition["prefixItems"], strict=True))
            for field, part in fields.items():
                part["title"] = field
        for field, part in fields.items():
            if field in comments:
                part["description"] = comments[field]
    return schema


def field_comments(kind: type) -> dict[str, str]:
    """Return the comment beside or above each field of a class."""
    source = textwrap.dedent(inspect.getsource(kind))
    lines = source.splitlines()
    (body,) = ast.parse(source).body
    assert isinstance(body, ast.ClassDef)
    comments = {}
    for field in body.body:
        if isinstance(field, ast.AnnAssign) and isinstance(field.target, ast.Name):
            beside = lines[field.end_lineno - 1].partition("  # ")[2]
            above = lines[field.lineno - 2].strip()
            text = beside or (above[2:] if above.startswith("# ") else "")
            if text:
                comments[field.target.id] = text
    return comments


def _structs(kind: type) -> Iterator[type]:
    for child in kind.__subclasses__():
        if child.__module__.split(".")[1:2] and child.__module__.split(".")[1] in ROOMS:
            yield child
        yield from _structs(child)


if __name__ == "__main__":
    for name, schema in schemas().items():
        (DOCS / f"{name}.schema.json").write_text(json.dumps(schema, indent=2) + "\n")
