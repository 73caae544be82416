"""Facts of what stands still, derived once: services, storage, people, packages.

A rule that stands in a view and in a finding is one function here.
"""

from collections.abc import Sequence
from typing import NamedTuple

from dunmist.applications import program_of
from dunmist.computer import (
    DELETED,
    Change,
    DeletedFile,
    FileSystem,
    FrozenGroup,
    Gateway,
    GroupWeight,
    IoLimit,
    MemoryEvents,
    Package,
    ProcessFacts,
    RadioLink,
    TaskLimit,
    Unit,
    is_person,
)
from dunmist.sampling import Survey

# on the way to another state (org.freedesktop.systemd1(5), ActiveState)
ON_THE_WAY = ("activating", "deactivating", "reloading")
# between two starts of a service that is kept alive: it is not stuck, it comes and goes
BETWEEN_STARTS = "auto-restart"
TIME_KEEPERS = frozenset(
    f"{name}.service"
    for name in ("systemd-timesyncd", "chrony", "chronyd", "ntp", "ntpd", "ntpsec", "openntpd")
)
INTERPRETED = 3  # a script is among the first words of a command line


class Storage(NamedTuple):
    """One file system; shares are of what people may use, None if it did not answer."""

    about: FileSystem
    used_bytes: int | None
    used: float | None
    inodes: float | None

    @property
    def point(self) -> str:
        """Its mount point."""
        return self.about.point

    @property
    def fullest(self) -> float | None:
        """The share of room or of inodes in use, the greater of both."""
        return None if self.used is None else max(self.used, self.inodes or 0.0)


class Surveyed:
    """Contents of the surveys of a capture, the newest by default."""

    def __init__(
        self, surveys: Sequence[Survey], began_s: float | None = None, duration_s: float = 0.0
    ) -> None:
        """``began_s`` is when the capture began, in seconds since 1970."""
        self.surveys = list(surveys)
        self._began_s = began_s
        self.ended_s = (began_s or 0.0) + duration_s
        self.last = surveys[-1] if surveys else None
        self.units: list[Unit] = self.last.units if self.last else []
        self.autostart = surveys[0].autostart if surveys else []
        self._unit_by_name = {unit.name: unit for unit in self.units}
        self._first_units = {unit.name: unit for survey in surveys[:1] for unit in survey.units}
        self._restarts: dict[str, list[int]] = {}
        for unit in (unit for survey in surveys for unit in survey.units):
            if unit.restarts is not None:
                self._restarts.setdefault(unit.name, []).append(unit.restarts)
        self._packages = {
            package.executable: package for survey in surveys for package in survey.packages
        }
        scheduling = self.last.scheduling if self.last else None
        self.autogroup = scheduling is not None and scheduling.autogroup
        self._scheduled = {group.path: group for group in scheduling.groups} if scheduling else {}
        self.replaced = {path for survey in surveys for path in survey.replaced}

    @property
    def changes(self) -> list[Change]:
        """Recent changes, the newest first."""
        return self.last.changes if self.last else []

    def scheduled(self, path: str | None) -> GroupWeight | None:
        """Return the scheduling of a control group, None if it was not read."""
        return self._scheduled.get(path or "")

    def unit(self, name: str | None) -> Unit | None:
        """Return a service or timer by its name, None when it is not known."""
        return self._unit_by_name.get(name or "")

    def is_stuck(self, unit: Unit) -> bool:
        """Whether a unit was on the way to the same other state at both ends of the capture.

        The last survey is enough where it says that the unit has been so since before the capture:
        a manager that is slow may have left the first one without an answer.
        """
        if unit.active not in ON_THE_WAY or unit.sub == BETWEEN_STARTS:
            return False
        if unit.since_s is not None and self._began_s is not None:
            return unit.since_s <= self._began_s
        before = self._first_units.get(unit.name)
        if len(self.surveys) < 2 or before is None:
            return False
        return (before.active, before.since_s) == (unit.active, unit.since_s)

    @property
    def frozen_groups(self) -> list[FrozenGroup]:
        """The groups in which nothing may run, without those below another one."""
        return self.last.frozen_groups if self.last else []

    @property
    def task_limits(self) -> list[TaskLimit]:
        """The control groups that are close to their limit of tasks at the end."""
        return self.last.task_limits if self.last else []

    @property
    def io_limits(self) -> list[IoLimit]:
        """The limits of disk I/O of control groups."""
        return self.last.io_limits if self.last else []

    def out_of_memory(self) -> dict[str, MemoryEvents]:
        """Return the control groups whose limit ended something during the capture.

        Counts go up to all groups above: of those only the lowest are there.
        """
        if len(self.surveys) < 2:
            return {}
        before = {group.path: group.oom for group in self.surveys[0].memory_events}
        grown = {
            group.path: group
            for group in self.surveys[-1].memory_events
            # a group that was created again counts from 0
            if group.oom > before.get(group.path, 0)
        }
        return {
            path: group
            for path, group in grown.items()
            if not any(other.startswith(f"{path}/") for other in grown)
        }

    def restarts(self, name: str) -> int:
        """Return the number of restarts of a unit by the service manager during the capture."""
        counts = self._restarts.get(name)
        return counts[-1] - counts[0] if counts else 0

    def restarts_in_all(self, name: str) -> int:
        """Return the number of its restarts of a unit since the last start by hand."""
        unit = self.unit(name)
        return (unit.restarts or 0) if unit else 0

    @property
    def time_keeper(self) -> str | None:
        """The running service that is to keep the clock right, None without one."""
        return next(
            (
                unit.name
                for unit in self.units
                if unit.name in TIME_KEEPERS and unit.sub == "running"
            ),
            None,
        )

    def starts_at_boot(self, name: str) -> bool:
        """Whether a unit is enabled, so that it starts by itself."""
        unit = self.unit(name)
        return unit is not None and (unit.starts or "").startswith("enabled")

    @property
    def storage(self) -> list[Storage]:
        """All file systems."""
        return [
            _storage(file_system) for file_system in (self.last.file_systems if self.last else [])
        ]

    @property
    def gateways(self) -> list[Gateway]:
        """The gateways to other networks at the end."""
        return self.last.gateways if self.last else []

    @property
    def radio(self) -> dict[str, RadioLink]:
        """The other end of each wireless link at the end, by the link."""
        return {station.link: station for station in self.last.radio} if self.last else {}

    @property
    def deleted_files(self) -> list[DeletedFile]:
        """Deleted files that still take room, the largest first."""
        return self.last.deleted_files if self.last else []

    def filled_bytes(self, point: str) -> int | None:
        """Return the loss of free bytes since the first survey, None if unknown."""
        if len(self.surveys) < 2:
            return None
        free = [
            about.free_bytes
            for survey in (self.surveys[0], self.surveys[-1])
            for about in survey.file_systems
            if about.point == point and about.free_bytes is not None
        ]
        return free[0] - free[1] if len(free) == 2 else None

    @property
    def people_here(self) -> set[str]:
        """Logged-in people."""
        return {session.user for session in (self.last.sessions if self.last else [])}

    @property
    def people_at_screen(self) -> set[str]:
        """People who are logged in at a screen of this computer."""
        sessions = self.last.sessions if self.last else []
        return {session.user for session in sessions if session.graphical}

    def package(self, facts: ProcessFacts) -> Package | None:
        """Return the package that the program of a process belongs to, None when not known.

        That of what an interpreter runs, which is never that of the interpreter.
        """
        executable = (facts.executable or "").removesuffix(DELETED)
        is_script = program_of(facts).script is not None
        files = facts.command_line[1:INTERPRETED] if is_script else [executable]
        return next((self._packages[file] for file in files if file in self._packages), None)

    def package_of_file(self, path: str | None) -> Package | None:
        """Return the package that an executable belongs to, None when not known."""
        return self._packages.get(path or "")

    def owner_kind(self, facts: ProcessFacts) -> str:
        """Return the kind of owner: logged in, a person, the administrator, a service.

        Without a list of logins it is unknown whether a person is logged in.
        """
        if facts.uid is None:
            return "unknown"
        if facts.uid == 0:
            return "administrator"
        if not is_person(facts.uid):
            return "service"
        return "here" if facts.user in self.people_here else "person"


def _storage(about: FileSystem) -> Storage:
    used_bytes = used = inodes = None
    size, free, available = about.size_bytes, about.free_bytes, about.available_bytes
    # some that lie elsewhere answer with more free than there is: that tells nothing
    if size is not None and free is not None and available is not None and free <= size:
        used_bytes = size - free
        # blocks reserved for the administrator count as neither used nor available
        whole = used_bytes + min(available, free)
        used = used_bytes / whole if whole else None
    if about.inodes and about.inodes_free is not None and about.inodes_free <= about.inodes:
        inodes = 1.0 - about.inodes_free / about.inodes
    return Storage(about, used_bytes, used, inodes)
