"""Makes a copy of a capture that says nothing about people, places and networks.

Stand-ins replace user names, the host, home directories, addresses of other computers, mail
addresses and names in URLs. The same stand-in means the same thing everywhere in the copy, so that
it can still be followed. Figures, programs and service accounts stay. Addresses stand in from the
blocks that are reserved for documentation (RFC 5737, RFC 3849), names of hosts end in ``.invalid``
(RFC 2606). Serial numbers are never read; shapes that may be one, or a telephone or account number,
a label, an identity of a file system, are replaced (``telling_shapes``).
"""

import ipaddress
import re
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import TypeVar

import msgspec

from dunmist.captures.personal_data_patterns import SHAPES, hosts_of
from dunmist.captures.reader import CaptureReader
from dunmist.captures.schema import Header, Line
from dunmist.captures.writer import CaptureWriter
from dunmist.computer import Change, is_person
from dunmist.sampling import Event, ProcessLine, Survey

SHARED_BOOT = "shared-copy"
TAG = "kind"  # says what a line is
_ADDRESS4 = re.compile(r"(?<![\w.])(?:\d{1,3}\.){3}\d{1,3}(?![\w.]*\d\.)")
_ADDRESS6 = re.compile(r"(?<![\w:.])(?:[0-9a-fA-F]{0,4}:){2,7}[0-9a-fA-F]{0,4}(?![\w:])")
# sources of files of another computer: host:/path and //host/path
_SOURCE_HOST = re.compile(r"^(//)?([A-Za-z0-9][\w.-]{0,252})(?=:/|/)")
# the arguments that name the program of an interpreter; the rest of a command line may be anything
_PROGRAM_OPTIONS = ("-m", "-jar")
_URL_HOST = re.compile(r"(?<=://)(?:[\w.~%-]*@)?([A-Za-z][\w.-]{0,252})")
_HOME = re.compile(r"/home/([^/\s:\"']+)")
DOCUMENTATION = ("192.0.2.", "198.51.100.", "203.0.113.")
Whole = TypeVar("Whole", bound=msgspec.Struct)


# a program, not only a person, may have changed packages
_PACKAGE_PROGRAMS = frozenset(
    ("apt", "apt-get", "aptitude", "aptd", "packagekitd", "synaptic", "unattended-upgrade")
)


def share_capture(
    source: Path, target: Path, *, force: bool = False, arguments: bool = False
) -> None:
    """Write a copy of a capture for others; raises CaptureError and OutputError.

    Only the program of a command line is kept, unless ``arguments`` are wanted. Then known names in
    them are replaced, and nobody can promise that this finds all.
    """
    stand_ins = StandIns(arguments=arguments)
    with CaptureReader(source) as reader:
        stand_ins.learn(reader.header)
        for line in reader.lines():
            stand_ins.learn(line)
    with CaptureReader(source) as reader, CaptureWriter(target, force=force) as writer:
        writer.write(stand_ins.header(reader.header))
        for line in reader.lines():
            writer.write(stand_ins.line(line))


def is_shared(header: Header) -> bool:
    """Whether a capture is such a copy."""
    return header.machine.boot_id == SHARED_BOOT


def _names_in(changes: list[Change]) -> Iterator[str]:
    """Yield the accounts that came and went, and who had packages changed."""
    for change in changes:
        if change.kind == "accounts":
            yield from f"{change.old or ''} {change.new or ''}".split()
        elif change.by and change.by not in _PACKAGE_PROGRAMS:
            yield change.by


class StandIns:
    """Gives the same stand-in for the same name or address, in the order of the capture."""

    def __init__(self, *, arguments: bool = False) -> None:
        self._arguments = arguments
        self._people: dict[str, str] = {}
        self._hosts: dict[str, str] = {}
        self._addresses: dict[str, str] = {}
        self._others: dict[str, str] = {}
        self._known: dict[str, str] = {}
        self._names: re.Pattern[str] | None = None

    def learn(self, line: Line) -> None:
        """Take note of the names of people and hosts in a line."""
        if isinstance(line, Header) and line.machine.host:
            self._add(self._hosts, line.machine.host, "computer-{}")
        elif isinstance(line, ProcessLine) and is_person(line.facts.uid):
            self._person(line.facts.user)
            if is_person(line.facts.gid):
                self._person(line.facts.group)
            if self._arguments:
                for host in hosts_of(line.facts.command_line):
                    self._add(self._hosts, host, "computer-{}")
        elif isinstance(line, Survey):
            for session in line.sessions:
                self._person(session.user)
                if session.origin and not _is_address(session.origin):
                    self._add(self._hosts, session.origin, "computer-{}")
            for entry in line.autostart:
                self._person(entry.user)
            for name in _names_in(line.changes):
                self._person(name)
        for text in _texts_with_homes(line):
            for name in _HOME.findall(text):
                self._person(name)

    def header(self, header: Header) -> Header:
        """Return the header with stand-ins, and without what identifies the computer."""
        shared = self._replaced(header)
        machine = msgspec.structs.replace(shared.machine, boot_id=SHARED_BOOT)
        return msgspec.structs.replace(shared, machine=machine, live=False)

    def line(self, line: Line) -> Line:
        """Return a line with stand-ins: every text in it is looked at."""
        if isinstance(line, ProcessLine | Event) and line.facts and not self._arguments:
            words = program_words(line.facts.command_line)
            facts = msgspec.structs.replace(line.facts, command_line=words)
            line = msgspec.structs.replace(line, facts=facts)
        if isinstance(line, Survey):
            line = self._survey(line)
        return self._replaced(line)

    def _survey(self, survey: Survey) -> Survey:
        """Return a survey without hosts of file systems and without what entries and jobs start."""
        mounts = [
            msgspec.structs.replace(mount, source=_SOURCE_HOST.sub(self._source_host, mount.source))
            for mount in survey.file_systems
        ]
        entries = [
            entry
            if self._arguments
            else msgspec.structs.replace(entry, command=entry.command.partition(" ")[0])
            for entry in survey.autostart
        ]
        return msgspec.structs.replace(survey, file_systems=mounts, autostart=entries)

    def _source_host(self, match: re.Match[str]) -> str:
        host = match[2]
        # a plain device below /dev has no host in front of it
        if _is_address(host):
            return match[0]
        return (match[1] or "") + self._add(self._hosts, host, "computer-{}")

    def text(self, text: str) -> str:
        """Return a text with stand-ins."""
        if text not in self._known:
            self._known[text] = self._made(text)
        return self._known[text]

    def _made(self, text: str) -> str:
        for pattern, form in SHAPES:
            text = pattern.sub(partial(self._stand_in, form), text)
        text = _URL_HOST.sub(self._url_host, text)
        text = _ADDRESS4.sub(lambda match: self._address(match[0]), text)
        text = _ADDRESS6.sub(lambda match: self._address(match[0]), text)
        return self._pattern().sub(lambda match: self._name(match[0]), text)

    def _stand_in(self, form: str, match: re.Match[str]) -> str:
        who = "who" if "who" in match.re.groupindex else 0
        start, end = (position - match.start() for position in match.span(who))
        stand_in = self._add(self._others, match[who], form)
        return match[0][:start] + stand_in + match[0][end:]

    def _replaced(self, line: Whole) -> Whole:
        whole = _walked(msgspec.to_builtins(line), self.text)
        return msgspec.convert(whole, type=type(line))

    def _person(self, name: str | None) -> None:
        # the administrator and service accounts have the same names everywhere
        if name and name != "root" and not name.isdigit():
            self._add(self._people, name, "person-{}")
            self._names = None

    def _add(self, known: dict[str, str], name: str, form: str) -> str:
        if name not in known:
            known[name] = form.format(len(known) + 1)
        return known[name]

    def _pattern(self) -> re.Pattern[str]:
        if self._names is None:
            names = sorted((*self._people, *self._hosts), key=len, reverse=True)
            either = "|".join(map(re.escape, names)) or "(?!)"
            self._names = re.compile(rf"(?<![A-Za-z0-9])(?:{either})(?![A-Za-z0-9])", re.I)
        return self._names

    def _name(self, name: str) -> str:
        known = self._people | self._hosts
        # a name is the same whatever its letters look like
        return known.get(name) or next(
            stand_in for other, stand_in in known.items() if other.lower() == name.lower()
        )

    def _url_host(self, match: re.Match[str]) -> str:
        if _is_address(match[1]) or match[1] == "localhost":
            return match[0].rpartition("@")[2]
        return self._add(self._others, match[1], "host-{}.invalid")

    def _address(self, text: str) -> str:
        try:
            address = ipaddress.ip_address(text)
        except ValueError:
            return text
        if address.is_loopback or address.is_unspecified or address.is_multicast:
            return text
        if text not in self._addresses:
            number = len(self._addresses)
            block = DOCUMENTATION[number // 254 % len(DOCUMENTATION)]
            is_short = address.version == 4
            self._addresses[text] = (
                f"{block}{number % 254 + 1}" if is_short else f"2001:db8::{number + 1:x}"
            )
        return self._addresses[text]


def program_words(command_line: list[str]) -> list[str]:
    """Return the part of a command line that identifies the program, without its arguments."""
    words = command_line[:1]
    for index, word in enumerate(command_line[1:], 1):
        if word in _PROGRAM_OPTIONS and index + 1 < len(command_line):
            return [*words, word, command_line[index + 1]]
        if not word.startswith("-"):
            # a script is a file; other operands are what the program works on
            return [*words, word] if "/" in word and index == 1 else words
    return words


def _walked(value: object, change: Callable[[str], str]) -> object:
    if isinstance(value, str):
        return change(value)
    if isinstance(value, dict):
        return {
            _walked(key, change): part if key == TAG else _walked(part, change)
            for key, part in value.items()
        }
    if isinstance(value, list | tuple):
        return [_walked(part, change) for part in value]
    return value


def _is_address(text: str) -> bool:
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True


def _texts_with_homes(line: Line) -> list[str]:
    if isinstance(line, ProcessLine):
        return [*line.facts.command_line, line.facts.executable or ""]
    if isinstance(line, Survey):
        return [
            *(entry.file for entry in line.autostart),
            *(file_system.point for file_system in line.file_systems),
        ]
    return []
