"""The topics of ``dunmist view``: what each shows, its options, and other words for it."""

from collections.abc import Mapping
from typing import NamedTuple

from dunmist.cli.parameters import check_word


class Topic(NamedTuple):
    """One topic; the tables of each are in dunmist.tables.TOPICS."""

    about: str
    filters: tuple[str, ...] = ()  # options that choose rows
    has_picture: bool = False
    has_tables: bool = True  # several, of which one can be chosen


# 'process' is a page, not a table
PROCESS = "process"
# topics for which the code of programs is sampled as well, where they are about now
WITH_CODE = (PROCESS, "doing")
TOPICS: Mapping[str, Topic] = {
    "processes": Topic(
        "What used the computer: applications and processes.",
        ("owner", "name", "pid", "service", "port", "state", "role", "least"),
        has_picture=True,
    ),
    PROCESS: Topic("All about one application, process or open file.", has_picture=True),
    "cores": Topic("Each logical CPU, and interrupts.", ("least",), has_picture=True),
    "memory": Topic("What the memory is used for.", ("name", "least"), has_picture=True),
    "disks": Topic("Disks and file systems.", ("name", "least"), has_picture=True),
    "links": Topic("Network interfaces and TCP.", ("name", "state", "least"), has_picture=True),
    "ports": Topic(
        "Which program has which port and connection.",
        ("owner", "name", "pid", "service", "port", "listening", "state"),
    ),
    "heat": Topic(
        "Sensors, fans, batteries and graphics cards.",
        ("owner", "name", "pid", "least"),
        has_picture=True,
    ),
    "services": Topic("Services, timers and control groups.", ("name", "pid", "service", "state")),
    "autostart": Topic("What starts by itself.", ("owner", "name", "service"), has_tables=False),
    "sessions": Topic("Who is logged in, and what their processes use.", ("owner", "pid", "least")),
    "boot": Topic("How long the last start took.", ("name", "service"), has_picture=True),
    "messages": Topic(
        "What the kernel and the drives report.", ("name", "pid", "state"), has_tables=False
    ),
    "machine": Topic("The computer itself, and its memory modules."),
    "changes": Topic(
        "What was installed, upgraded or set up lately.",
        ("owner", "name", "state", "days"),
        has_tables=False,
    ),
    "doing": Topic(
        "What the busiest programs are doing.", ("name", "pid", "state", "least"), has_picture=True
    ),
    "timeline": Topic("Levels and events over time.", ("name", "state"), has_picture=True),
}

# the name of a topic on the command line, and the topic
TOPIC_SYNONYMS = {
    "code": "doing",
    "work": "doing",
    "updates": "changes",
    "upgrades": "changes",
    "packages": "changes",
    "installed": "changes",
    "procs": "processes",
    "proc": "processes",
    "ps": "processes",
    "tasks": "processes",
    "programs": "processes",
    "apps": "processes",
    "cpu": "cores",
    "cpus": "cores",
    "core": "cores",
    "mem": "memory",
    "ram": "memory",
    "swap": "memory",
    "temp": "heat",
    "temps": "heat",
    "temperature": "heat",
    "temperatures": "heat",
    "sensors": "heat",
    "fans": "heat",
    "disk": "disks",
    "io": "disks",
    "storage": "disks",
    "net": "links",
    "network": "links",
    "interfaces": "links",
    "port": "ports",
    "sockets": "ports",
    "connections": "ports",
    "units": "services",
    "service": "services",
    "users": "sessions",
    "logins": "sessions",
    "startup": "autostart",
    "hardware": "machine",
    "dmesg": "messages",
    "log": "messages",
    "kernel": "messages",
    "complaints": "messages",
    "time": "timeline",
    "login": "autostart",
    "start": "boot",
    "gpu": "heat",
    "files": "disks",
    "who": "sessions",
}


def topic_of(word: str) -> str:
    """Return the topic that a word means, in any case of letters; raises UsageError."""
    topic = TOPIC_SYNONYMS.get(word.lower(), word.lower())
    check_word("topic", topic if topic in TOPICS else word, TOPICS, TOPIC_SYNONYMS)
    return topic
