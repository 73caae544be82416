"""The triage as JSON, in the form of the contract."""

import msgspec

from dunmist.advice import Triage
from dunmist.harmless import json_harmless


def triage_json(triage: Triage) -> str:
    """Return the triage as indented JSON with a final line break, its format and version first."""
    fields = msgspec.to_builtins(triage)
    head = {"format": fields.pop("format"), "version": fields.pop("version")}
    text = msgspec.json.format(msgspec.json.encode({**head, **fields}), indent=2).decode()
    return json_harmless(text) + "\n"
