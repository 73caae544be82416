"""Names of users: passwd(5). Only the local file is read; a directory service is never asked."""

from dunmist.computer.parsing import text_of
from dunmist.computer.root import Root


def parse_passwd(data: bytes) -> dict[int, str]:
    """Return the name of each user number; lines that are none are passed over."""
    names: dict[int, str] = {}
    for line in data.splitlines():
        fields = line.split(b":")
        if len(fields) >= 3 and fields[2].isdigit() and len(fields[2]) <= 10:
            names.setdefault(int(fields[2]), text_of(fields[0]))
    return names


class UserNames:
    """Names by user number, read once from the root's own passwd file."""

    def __init__(self, root: Root) -> None:
        self._names = root.parse("etc/passwd", parse_passwd, "names of users") or {}

    def name(self, uid: int) -> str:
        """Return the user's name, or the number as text when the file does not know it."""
        return self._names.get(uid, str(uid))
