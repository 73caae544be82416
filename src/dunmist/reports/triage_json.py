"""The triage as JSON, in the form of the contract."""

import msgspec

from dunmist.advice import Triage


def triage_json(triage: Triage) -> str:
    """Return the triage as indented JSON with a final line break, its format and version first."""
    fields = msgspec.to_builtins(triage)
    head = {"format": fields.pop("format"), "version": fields.pop("version")}
    return msgspec.json.format(msgspec.json.encode({**head, **fields}), indent=2).decode() + "\n"
