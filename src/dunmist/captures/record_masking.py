"""Takes the secrets out of one record: out of every text in it, whatever field it stands in."""

from typing import TypeVar

import msgspec

from dunmist.captures.redaction import SUSPECT, Rules, mask_secrets, mask_text
from dunmist.captures.schema import Line
from dunmist.computer import ProcessFacts
from dunmist.sampling import FunctionSamples, Tick

# fields of a tick with text that users can choose; all other text is the kernel's
TICK_TEXTS = ("threads", "groups", "code", "files", "calls")
# a symbol is part of a published file; to the masks some look drawn at random
SYMBOL = "function"

Part = TypeVar("Part")


def without_secrets(line: Line, rules: Rules) -> Line:
    """Return a line in which secrets are masked."""
    if isinstance(line, Tick):
        changed = {name: _masked(getattr(line, name), rules) for name in TICK_TEXTS}
        return msgspec.structs.replace(line, **changed)
    return _masked(line, rules)


def _masked(part: Part, rules: Rules) -> Part:
    masked: object = part
    if isinstance(part, str):
        masked = mask_text(part, rules) if SUSPECT.search(part) else part
    elif isinstance(part, list | tuple):
        masked = type(part)([_masked(item, rules) for item in part])
    elif isinstance(part, dict):
        masked = {key: _masked(value, rules) for key, value in part.items()}
    elif isinstance(part, msgspec.Struct):
        masked = _struct(part, rules)
    return masked  # type: ignore[return-value]  # each branch keeps the type


def _struct(part: msgspec.Struct, rules: Rules) -> msgspec.Struct:
    changed = {}
    for name in part.__struct_fields__:
        value = getattr(part, name)
        is_symbol = name == SYMBOL and isinstance(part, FunctionSamples)
        if isinstance(value, int | float | None) or is_symbol:
            continue
        # the words of a command line belong together: an option says what the next one is
        is_command_line = name == "command_line" and isinstance(part, ProcessFacts)
        masked = mask_secrets(value, rules) if is_command_line else _masked(value, rules)
        if masked != value:
            changed[name] = masked
    return msgspec.structs.replace(part, **changed) if changed else part
