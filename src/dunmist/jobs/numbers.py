"""Numbers as a person types them."""

# of processes, acts and incidents none has more
DIGITS_MAX = 15


def plain_number(text: str) -> int | None:
    """Return the number that a text is, None if it is none that names anything."""
    is_number = text.isascii() and text.isdecimal() and len(text) <= DIGITS_MAX
    return int(text) if is_number else None
