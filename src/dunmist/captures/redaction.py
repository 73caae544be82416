"""Masks secrets in command lines and other text before they reach a file.

A command line is taken word by word. A word that is a text of its own is split into words first: a
title that a program gave itself, a script for a shell, a statement. A word is secret when the name
in front of it says so (``secret_names``), when the program is known to take it so, or by its own
shape. Masking errs on the side of hiding. Its cost goes with the length of the text, which is
bounded.
"""

import re
from itertools import pairwise

from dunmist.captures.secret_rules import ProgramOptions, Rules, load_rules

__all__ = ["MASK", "Rules", "load_rules", "mask_secrets", "mask_text"]

MASK = "[masked]"
CUT = "[cut]"
# longer values are cut: no person reads them, and searching them would cost the patient
LONGEST = 8192
# of one command line no more than this is looked through; what could hide more behind it is cut
LOOKED_THROUGH = 2 * LONGEST
# the program stands among the first words, behind others that start it
PROGRAM_WITHIN = 6
# text without any of this holds no secret that a shape could find; most is of that kind
SUSPECT = re.compile(r"[=:@$ ]|[\w+-]{16}")
# a word of a text, with the quotes that are in it
_WORDS = re.compile(r"""(?:[^\s"']|"[^"]*"|'[^']*'|["'])+""")
# a name and what says that its value begins; the value of a colon stands apart, or is quoted
_NAMED = re.compile(
    r"""(?<![\w.])(?P<name>[A-Za-z_][\w.-]{0,80})"""
    r"""(?P<sep>\\{0,7}["']?\s{0,4}(?:=\s{0,4}|:(?:\s{1,4}|(?=\\{0,7}["'\w]))))"""
)
# a quote, which JSON within JSON has with backslashes before it
_QUOTE = re.compile(r"""\\{0,7}["']""")
ESCAPED_QUOTE = '\\"'
# of what was drawn at random from letters of both cases and digits, so many of a hundred neighbours
# are of different kinds: 62; of words that are written together 20 to 35
RANDOM_LEAST, RANDOM_CHANGES = 16, 0.4
_KINDS = str.maketrans(
    dict.fromkeys("abcdefghijklmnopqrstuvwxyz", "a")
    | dict.fromkeys("ABCDEFGHIJKLMNOPQRSTUVWXYZ", "A")
    | dict.fromkeys("0123456789", "0")
)
_HEX = re.compile(r"(?:[0-9a-f]+|[0-9A-F]+)")
# end of a value that others follow
_NEXT = re.compile(r"""[&;]|,\s{0,4}["']?[A-Za-z_][\w.-]{0,63}["']?\s{0,4}[=:]|\s""")
HEADERS = ("cookie", "authorization")


def mask_secrets(command_line: list[str], rules: Rules | None = None) -> list[str]:
    """Return the words with every value that looks like a secret replaced by ``[masked]``."""
    rules = rules or load_rules()
    if len(command_line) == 1:
        return [mask_text(command_line[0], rules)]
    return _masked_words([_bounded(word) for word in command_line], rules)


def mask_text(text: str, rules: Rules | None = None) -> str:
    """Return a command or other words written as one text, with the secrets in it masked."""
    rules = rules or load_rules()
    text = _by_shape(_bounded(text), rules)
    if ESCAPED_QUOTE in text:
        text = _masked_values(text, rules)
    matches = list(_WORDS.finditer(text))
    words = [_unquoted(match[0]) for match in matches]
    masked = _masked_words(words, rules)
    parts, end = [], 0
    for match, word, hidden in zip(matches, words, masked, strict=True):
        parts += [text[end : match.start()], match[0] if hidden == word else hidden]
        end = match.end()
    return "".join([*parts, text[end:]])


def _bounded(text: str) -> str:
    return text if len(text) <= LONGEST else text[:LONGEST] + CUT


def _unquoted(word: str) -> str:
    return word.replace('"', "").replace("'", "") if "{" not in word else word


def _masked_words(words: list[str], rules: Rules) -> list[str]:
    options = rules.of_program(words, PROGRAM_WITHIN) or ProgramOptions("")
    hidden = _by_position(words, options)
    masked: list[str] = []
    operands, left = 0, LOOKED_THROUGH
    before = ""
    for index, word in enumerate(words):
        if SUSPECT.search(word):
            left -= len(word)
        if left < 0 and SUSPECT.search(word):
            masked.append(CUT)
            continue
        operands += index > 0 and not word.startswith("-") and not before.startswith("-")
        if index in hidden:
            masked.append(MASK)
        else:
            masked.append(_masked(word, before, operands, options, rules, is_first=not index))
        before = word
    return masked


def _by_position(words: list[str], options: ProgramOptions) -> set[int]:
    """Return the positions of words that are secret by where a program takes them."""
    plain = [
        position for position, word in enumerate(words) if position and not word.startswith("-")
    ]
    hidden = set(plain[-1:]) if options.last and len(plain) > 1 else set()
    for position in plain:
        count = options.after.get(words[position].lower())
        following = [candidate for candidate in plain if candidate > position]
        if count is not None:
            # only zeros follow
            hidden.update(following[count - 1 : count] if count else following)
    return hidden


def _masked(
    word: str, before: str, operands: int, options: ProgramOptions, rules: Rules, *, is_first: bool
) -> str:
    """Return one word, masked if it is secret.

    ``before`` is the word in front of it, ``operands`` its position among the operands.
    """
    by_program = _by_program(word, before, operands, options)
    if by_program is not None:
        return by_program
    if _announces(before, options, rules) and not word.startswith("--"):
        return word if rules.is_harmless(word) else MASK
    if rules.announces_random(before) and looks_random(word):
        return MASK
    if " " in word and not is_first:
        # a command for a shell, a statement, a text: it has words of its own
        return _masked_values(mask_text(word, rules), rules)
    return _masked_values(_by_shape(word, rules), rules)


def _by_shape(text: str, rules: Rules) -> str:
    """Return a text without what is secret by its own shape."""
    if rules.every_shape_has is not None and not rules.every_shape_has.search(text):
        return text
    for pattern, random in rules.shapes:
        text = pattern.sub(
            lambda match, random=random: (  # type: ignore[misc]  # bound for each shape
                match[0] if random and not looks_random(match["hide"]) else match["keep"] + MASK
            ),
            text,
        )
    return text


def looks_random(value: str) -> bool:
    """Whether a value looks drawn at random, as keys are and names are not."""
    letters = "".join(letter for letter in value if letter.isalnum())
    kinds = letters.translate(_KINDS)
    if len(letters) < RANDOM_LEAST or len(set(kinds)) < 2 or "0" not in kinds:
        return False
    if _HEX.fullmatch(letters):
        return True
    changes = sum(kind != other for kind, other in pairwise(kinds))
    return changes >= RANDOM_CHANGES * (len(kinds) - 1)


def _announces(before: str, options: ProgramOptions, rules: Rules) -> bool:
    """Whether a word says that the next one is secret."""
    if before in options.bare:
        return True
    if not before.startswith("-") or "=" in before:
        return False
    return rules.is_secret_name(before.lstrip("-"))


def _by_program(word: str, before: str, operands: int, options: ProgramOptions) -> str | None:
    """Return a word as its program takes it, None if the program says nothing of it."""
    if before in options.follows:
        return MASK
    for option in options.attached:
        if word.startswith(option) and len(word) > len(option) and not word.startswith("--"):
            return option + MASK
    for option in options.pair:
        value = word if before == option else None
        if option and value is None and word.startswith(option) and len(word) > len(option):
            value = word[len(option) :].removeprefix("=")
        if not option and operands == 1 and not word.startswith("-"):
            value = word
        if value is not None:
            return word.removesuffix(value) + _second_of_pair(value, options.between)
    if options.operand and operands == options.operand and "-" not in word[:1]:
        return MASK if before and not before.startswith("-") else None
    return None


def _second_of_pair(value: str, between: str) -> str:
    for index, letter in enumerate(value):
        if letter in between:
            return value[: index + 1] + MASK if value[index + 1 :] else value
    return value


def _masked_values(word: str, rules: Rules) -> str:
    """Return a word with the values of secret names in it masked."""
    parts, end = [], 0
    for match in _NAMED.finditer(word):
        is_secret = rules.is_secret_name(match["name"])
        if match.start() < end or not (is_secret or rules.announces_random(match["name"])):
            continue
        value = match.end()
        if quote := _QUOTE.match(word, value):
            value = quote.end()
            stop = word.find(quote[0], value)
            stop = len(word) if stop < 0 else stop
        elif match["name"].lower() in HEADERS and ":" in match["sep"]:
            stop = len(word)
        else:
            following = _NEXT.search(word, value)
            stop = following.start() if following else len(word)
        hidden = word[value:stop]
        if rules.is_harmless(hidden) or not (is_secret or looks_random(hidden)):
            continue
        parts += [word[end:value], MASK]
        end = stop
    return "".join([*parts, word[end:]])
