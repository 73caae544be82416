r"""Shapes of text that tell who or where, whatever stands around them, and what stands in for them.

Of each match the part named ``who`` is replaced, all of it where there is none. Forms of stand-ins
are numbered in the order of the capture. Addresses of the network are in ``sharing``, since what
stands in for them depends on their version. Units are written with ``\x2d`` for a dash
(systemd.unit(5)), and identities of file systems stand in them so.
"""

import re
from typing import NamedTuple


class Shape(NamedTuple):
    """``form`` has a place for the number."""

    pattern: re.Pattern[str]
    form: str


def _shape(pattern: str, form: str) -> Shape:
    return Shape(re.compile(pattern), form)


_DASH = r"(?:-|\\x2d)"
_HEX = "[0-9a-fA-F]"
SHAPES = (
    _shape(rf"(?<![\w:-])(?:{_HEX}{{2}}[:-]){{5}}{_HEX}{{2}}(?![\w:-])", "hardware-{}"),
    # a link of a plug-in adapter is named for its hardware address (systemd.net-naming-scheme(7))
    _shape(r"\benx[0-9a-f]{12}\b", "enx-{}"),
    _shape(r"\bwlx[0-9a-f]{12}\b", "wlx-{}"),
    # a unit of many, such as user@1000.service, is no mail address, and stays as it can be pasted
    _shape(
        r"[\w.+-]{1,64}@"
        r"(?![\w.\\-]*\.(?:service|scope|slice|socket|timer|mount|device|target)\b)"
        r"[\w-]{1,63}(?:\.[\w-]{1,63})*\.[A-Za-z]{2,24}\b",
        "person{}@mail.invalid",
    ),
    # file systems, partitions, computers and starts
    _shape(
        rf"(?<!{_HEX}){_HEX}{{8}}(?:{_DASH}{_HEX}{{4}}){{3}}{_DASH}{_HEX}{{12}}(?!{_HEX})",
        "identity-{}",
    ),
    _shape(rf"(?<!\w)(?:{_HEX}{{32}}|{_HEX}{{40}}|{_HEX}{{64}})(?!\w)", "identity-{}"),
    # names of drives have their serial numbers, labels are given by people
    _shape(r"disk/by-(?:id|label|partlabel)/(?P<who>[^\s/]+)", "disk-{}"),
    _shape(r"disk-by\\x2d(?:id|label|partlabel)-(?P<who>[^\s/]+?)(?=\.\w+\b|$)", "disk-{}"),
    _shape(r"\b(?:UUID|LABEL|PARTUUID|PARTLABEL|SERIAL)=(?P<who>[^\s,]+)", "disk-{}"),
    _shape(r"(?:/run)?/media/(?:[^/\s]+/)?(?P<who>[^/]+)(?=/|$)", "label-{}"),
    # ip-10-1-2-3, as hosts of providers are called
    _shape(r"(?<![\w.])(?:ip-)?(?:\d{1,3}-){3}\d{1,3}(?![\w-])", "address-{}"),
    # bank account (ISO 13616) and telephone numbers (E.164, or with separators)
    _shape(r"\b[A-Z]{2}\d{2}(?: ?[A-Z0-9]{4}){3,7}(?: ?[A-Z0-9]{1,3})?\b", "number-{}"),
    _shape(r"(?<![\w+])\+\d(?:[ ()/.-]{0,2}\d){7,14}(?!\d)", "number-{}"),
    _shape(r"(?<![\w.:/-])0\d{1,4}[ /-]{1,3}\d(?:[ /-]?\d){4,11}(?![\w.:-])", "number-{}"),
    _shape(r"(?i:\b(?:e?ssid|serial(?:[ _-]?n(?:umber|o))?))[ =:]+(?P<who>[^\s,;]+)", "name-{}"),
    # paths and logins of another computer, without a scheme
    _shape(r"(?<![\w:/.-])//(?P<who>[A-Za-z][\w.-]{0,252})(?=/)", "host-{}.invalid"),
    _shape(r"(?<![\w/.:@-])(?:[\w.+-]{1,64}@)?(?P<who>[A-Za-z][\w.-]{0,252})(?=:/(?!/))",
           "host-{}.invalid"),
    _shape(r"(?<![\w/.+-])[\w.+-]{1,64}@(?P<who>[A-Za-z][\w-]{0,62})(?![\w.@\\-])",
           "host-{}.invalid"),
)
# programs whose operand is another computer; their own manual pages say so
REMOTE_PROGRAMS = frozenset((
    "ssh", "scp", "sftp", "rsync", "telnet", "ping", "traceroute", "mosh", "ftp", "nc", "ncat",
    "dig", "host", "nslookup", "curlftpfs", "sshfs", "rdesktop", "xfreerdp", "vncviewer",
    "smbclient", "psql", "mysql", "lftp", "wget", "nmap",
))
_HOST_WORD = re.compile(r"[A-Za-z][A-Za-z0-9-]*(?:\.[A-Za-z0-9-]+)*\Z")


def hosts_of(command_line: list[str]) -> list[str]:
    """Return possible hosts in a command line, too many rather than too few.

    The first operand, and what follows options before it, as nobody knows which of them take one.
    """
    if not command_line or command_line[0].rpartition("/")[2] not in REMOTE_PROGRAMS:
        return []
    hosts = []
    follows_option = False
    for word in command_line[1:]:
        if _HOST_WORD.match(word):
            hosts.append(word)
            if not follows_option:
                break
        follows_option = word.startswith("-")
    return hosts
