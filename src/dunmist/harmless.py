"""Makes text from a patient's machine safe to show: no control sequence reaches a terminal.

A name on a hostile machine may hold escape sequences, line breaks, marks that turn the direction of
writing, or the start of a spreadsheet formula.
"""

import re
import unicodedata

_UNSAFE = frozenset(("Cc", "Cf", "Cs", "Co", "Zl", "Zp"))
_PLAIN = re.compile(r"[ -~]*\Z")
FORMULA_STARTS = ("=", "+", "-", "@", "\t", "\r")


def harmless(text: str) -> str:
    r"""Return the text with every control or formatting character as its ``\x`` or ``\u`` form."""
    if _PLAIN.match(text):
        return text
    return "".join(
        char.encode("unicode_escape").decode() if unicodedata.category(char) in _UNSAFE else char
        for char in text
    )


def json_harmless(text: str) -> str:
    r"""Return JSON whose strings have every control or formatting character as its ``\u`` form."""
    import json

    return "".join(
        char
        if char == "\n" or unicodedata.category(char) not in _UNSAFE
        else json.dumps(char)[1:-1]
        for char in text
    )


def harmless_cell(value: object) -> object:
    """Return a CSV cell that no spreadsheet takes for a formula; numbers stay as they are."""
    if not isinstance(value, str):
        return value
    text = harmless(value)
    return f"'{text}" if text.startswith(FORMULA_STARTS) else text


def cut_middle(text: str, width: int) -> str:
    """Return the text in at most this many characters, its middle left out."""
    if len(text) <= width:
        return text
    head = (width - 1) // 2
    return f"{text[:head]}…{text[len(text) - (width - 1 - head) :]}"
