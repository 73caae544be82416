"""Writes docs/capture.schema.json from the types of the capture format."""

import json
from pathlib import Path

from dunmist.captures import json_schema

if __name__ == "__main__":
    text = json.dumps(json_schema(), indent=2) + "\n"
    (Path(__file__).parent / "capture.schema.json").write_text(text)
