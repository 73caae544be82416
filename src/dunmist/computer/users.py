"""Names of users and groups: passwd(5), group(5).

Only local files are read; a directory service is never asked.
"""

from typing import NamedTuple

from dunmist.computer.parsing import lines_of, text_of
from dunmist.computer.root import Root

# login.defs(5): below are the administrator and service accounts, above is nobody
FIRST_PERSON_UID, LAST_PERSON_UID = 1000, 60000


def is_person(uid: int | None) -> bool:
    """Whether a user number is one that people get."""
    return uid is not None and FIRST_PERSON_UID <= uid <= LAST_PERSON_UID


# the user of files that belong to nobody in this name space
NOBODYS = 65534


class User(NamedTuple):
    """One line of passwd(5); an invalid group number is left out."""

    uid: int
    name: str
    home: str | None
    gid: int = NOBODYS


def parse_passwd(data: bytes) -> list[User]:
    """Return the users; lines that are none are passed over."""
    users = []
    for line in lines_of(data):
        fields = line.split(b":")
        if len(fields) >= 3 and fields[2].isdigit() and len(fields[2]) <= 10:
            home = text_of(fields[5]) if len(fields) > 5 and fields[5] else None
            has_group = len(fields) > 3 and fields[3].isdigit() and len(fields[3]) <= 10
            gid = min(int(fields[3]), NOBODYS) if has_group else NOBODYS
            users.append(User(int(fields[2]), text_of(fields[0]), home, gid))
    return users


def parse_group(data: bytes) -> dict[int, str]:
    """Return the names of groups by number (group(5)); lines that are none are passed over."""
    groups: dict[int, str] = {}
    for line in lines_of(data):
        fields = line.split(b":")
        if len(fields) >= 3 and fields[2].isdigit() and len(fields[2]) <= 10:
            groups.setdefault(int(fields[2]), text_of(fields[0]))
    return groups


def read_groups(root: Root) -> dict[int, str]:
    """Return the groups of the root's own group file."""
    return root.parse("etc/group", parse_group, "names of groups", may_be_absent=True) or {}


def read_users(root: Root) -> list[User]:
    """Return the users of the root's own passwd file."""
    return root.parse("etc/passwd", parse_passwd, "names of users") or []
