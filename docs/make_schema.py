"""Writes docs/….schema.json from the types of the capture format and of comparisons."""

import json
from pathlib import Path

import msgspec

from dunmist.advice import Compared
from dunmist.captures import json_schema

DOCS = Path(__file__).parent

if __name__ == "__main__":
    for name, schema in (("capture", json_schema()), ("comparison", msgspec.json.schema(Compared))):
        text = json.dumps(schema, indent=2) + "\n"
        (DOCS / f"{name}.schema.json").write_text(text)
