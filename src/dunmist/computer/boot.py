"""Read the times of the start: firmware, loader, kernel, services, and the units waited for.

Source: org.freedesktop.systemd1(5), the timestamps of the manager and of units; they count from the
start of the kernel, those of firmware and loader backwards from it. The phases are seven cheap
questions; single units are only asked for where services took long, and as long as the answers come
quickly. A unit that did its work and ended was ready when it ended. Where answers stop, the chain
says that it is cut.
"""

from collections.abc import Iterator, Mapping
from itertools import pairwise
from typing import TYPE_CHECKING, Any, NamedTuple

import msgspec

from dunmist.computer.parsing import ParseError, text_of
from dunmist.computer.root import Root
from dunmist.computer.service_manager import (
    MANAGER,
    UNIT,
    US_PER_S,
    Questions,
    Unanswered,
    call,
    connected,
    system_bus,
)

if TYPE_CHECKING:
    from jeepney.io.blocking import DBusConnection

SUBJECT = "the start of the computer"
# a copy of the manager's own words, a line each
RECORDED = "start-words"
PHASES = ("Firmware", "Loader", "InitRD", "Userspace", "Finish")
STAMP = "TimestampMonotonic"
# for services this slow it is worth asking which
SERVICES_LONG_S = 15.0
# units of the chain, those that one of them came after, and slow units that are listed
CHAIN_MOST, AFTER_MOST, SLOWEST = 40, 500, 8
# all questions about units together; asked once, and only after a slow start
UNITS_PATIENCE_S = 2.0
# a unit is begun within it after the one that it waited for; what takes longer is a gap
NEXT_MOST_S, GAP_LEAST_S = 0.1, 1.0
KINDS = (".service", ".mount", ".socket", ".target", ".device", ".swap")


class StartedUnit(msgspec.Struct, frozen=True):
    """A unit that began and was ready so many seconds after the kernel started."""

    name: str
    began_s: float
    ready_s: float

    @property
    def took_s(self) -> float:
        """Time until it was ready."""
        return max(0.0, self.ready_s - self.began_s)


class Gap(NamedTuple):
    """A time of the chain that no unit accounts for."""

    after: str  # the unit that was ready before it
    before: str  # the one that began after it
    began_s: float
    took_s: float


class Boot(msgspec.Struct, frozen=True, omit_defaults=True):
    """Seconds of each phase of the last start; None is 'not published'."""

    firmware_s: float | None = None  # from power-on to the boot loader, by the firmware's own clock
    loader_s: float | None = None  # the boot loader
    kernel_s: float | None = None  # until the first process
    initrd_s: float | None = None  # in the initial RAM disk
    services_s: float | None = None  # until the default target was reached
    chain: list[StartedUnit] = []  # critical chain, the target that was reached last first
    slowest: list[StartedUnit] = []  # the units that took longest themselves, waited for or not
    is_cut: bool = False  # the manager answered too slowly to tell of all units

    @property
    def whole_s(self) -> float | None:
        """From the power to the last service, as far as it is known; None while it goes on."""
        if self.services_s is None:
            return None
        before = (self.firmware_s, self.loader_s, self.kernel_s, self.initrd_s)
        return self.services_s + sum(phase or 0.0 for phase in before)

    @property
    def gaps(self) -> list[Gap]:
        """The times in the chain in which nobody is known to have been waited for."""
        between = [
            Gap(earlier.name, later.name, earlier.ready_s, later.began_s - earlier.ready_s)
            for later, earlier in pairwise(self.chain)
        ]
        return [gap for gap in between if gap.took_s >= GAP_LEAST_S]


def phases_of(stamps_us: Mapping[str, int]) -> Boot:
    """Return the phases from the manager's timestamps, by their names without the common end."""
    stamp_s = {name: us / US_PER_S for name, us in stamps_us.items() if us > 0}
    firmware_s, loader_s = stamp_s.get("Firmware"), stamp_s.get("Loader")
    initrd_s, userspace_s = stamp_s.get("InitRD"), stamp_s.get("Userspace")
    finish_s = stamp_s.get("Finish")
    return Boot(
        firmware_s=_between(loader_s, firmware_s),
        loader_s=loader_s,
        kernel_s=initrd_s if initrd_s is not None else userspace_s,
        initrd_s=_between(initrd_s, userspace_s),
        services_s=_between(userspace_s, finish_s),
    )


def _between(from_s: float | None, to_s: float | None) -> float | None:
    if from_s is None or to_s is None or to_s < from_s:
        return None
    return round(to_s - from_s, 6)


def read_boot(root: Root) -> Boot | None:
    """Return the facts of the start; None, with a blind spot, if they cannot be read."""
    if not root.is_this_computer:
        return root.parse(RECORDED, parse_boot, SUBJECT)
    address = system_bus()
    if not address:
        root.note(SUBJECT, "absent")
        return None
    try:
        with connected(address) as bus:
            return _asked(bus)
    except Unanswered:
        root.note(SUBJECT, "failed")
        return None


def _asked(bus: "DBusConnection") -> Boot:
    asked, (_, path, interface) = Questions(bus), MANAGER
    stamps = {}
    for phase in PHASES:
        stamp = asked.one_of(path, interface, f"{phase}{STAMP}")
        if isinstance(stamp, int):
            stamps[phase] = stamp
    boot = phases_of(stamps)
    if boot.services_s is None or boot.services_s < SERVICES_LONG_S:
        return boot
    # those that have ended took part as well
    (rows,) = call(bus, MANAGER, "ListUnitsByPatterns", "asas", ([], ["*"]))
    (default,) = call(bus, MANAGER, "GetDefaultTarget")
    asked = Questions(bus, UNITS_PATIENCE_S)
    units = _Units(asked, {str(row[0]): str(row[6]) for row in rows}, stamps["Finish"] / US_PER_S)
    chain = list(_chain(units, str(default)))
    services = [
        unit for name in units.names if name.endswith(".service") and (unit := units.of(name))
    ]
    services.sort(key=lambda unit: -unit.took_s)
    is_cut = not asked.are_answered
    return msgspec.structs.replace(boot, chain=chain, slowest=services[:SLOWEST], is_cut=is_cut)


class _Units:
    """Times of the units that took part in the start, each asked for once."""

    def __init__(self, asked: Questions, paths: dict[str, str], finish_s: float) -> None:
        self._asked, self._paths, self._finish_s = asked, paths, finish_s
        self._ready_s: dict[str, float | None] = {}
        self.names = list(paths)

    def of(self, name: str) -> StartedUnit | None:
        """Return a unit's times, None if they are unknown or it took no part."""
        ready_s = self.ready_s(name)
        began_s = None if ready_s is None else self._timestamp_s(name, "InactiveExit")
        # a unit that was started again since then has the timestamps of that start
        if ready_s is None or began_s is None or began_s > self._finish_s + NEXT_MOST_S:
            return None
        return StartedUnit(name, began_s, ready_s)

    def ready_s(self, name: str) -> float | None:
        """Return when a unit was ready, or had done its work; None if that is unknown."""
        if name not in self._ready_s:
            ready_s = self._timestamp_s(name, "ActiveEnter") or self._timestamp_s(
                name, "InactiveEnter"
            )
            is_of_start = ready_s is not None and ready_s <= self._finish_s + NEXT_MOST_S
            self._ready_s[name] = ready_s if is_of_start else None
        return self._ready_s[name]

    def before(self, name: str) -> list[str]:
        """Return the units that this one came after."""
        after = self._word(name, "After")
        return [str(other) for other in after or [] if str(other) in self._paths][:AFTER_MOST]

    def _timestamp_s(self, name: str, word: str) -> float | None:
        us = self._word(name, f"{word}{STAMP}")
        return us / US_PER_S if isinstance(us, int) and us > 0 else None

    def _word(self, name: str, word: str) -> Any:  # noqa: ANN401 - as the bus has it
        path = self._paths.get(name)
        return self._asked.one_of(path, UNIT, word) if path else None


def _chain(units: _Units, last: str) -> Iterator[StartedUnit]:
    """Yield, latest first, the unit that came last and which of those before it was last ready."""
    seen: set[str] = set()
    name: str | None = last
    while name is not None and name not in seen and len(seen) < CHAIN_MOST:
        seen.add(name)
        unit = units.of(name)
        if unit is None:
            return
        yield unit
        before = [
            (ready_s, other)
            for other in units.before(name)
            if other.endswith(KINDS)
            and (ready_s := units.ready_s(other)) is not None
            and ready_s <= unit.began_s + NEXT_MOST_S
        ]
        name = max(before, default=(0.0, None))[1]


def parse_boot(data: bytes) -> Boot:
    """Return the start from a copy of the manager's words; raises ParseError.

    ``WORD=MICROSECONDS`` are the manager's. ``chain`` and ``slow`` lines are a unit with both
    timestamps.
    """
    stamps: dict[str, int] = {}
    units: dict[str, list[StartedUnit]] = {"chain": [], "slow": []}
    for line in text_of(data).splitlines():
        word, _, value = line.partition("=")
        fields = line.split(" ")
        if value.isdigit() and len(value) <= 18 and word.endswith(STAMP):
            stamps[word.removesuffix(STAMP)] = int(value)
        elif len(fields) == 4 and fields[0] in units and all(f.isdigit() for f in fields[2:]):
            began, ready = (int(field[:18]) / US_PER_S for field in fields[2:])
            units[fields[0]].append(StartedUnit(fields[1], began, ready))
        else:
            raise ParseError(RECORDED, "expected words of the service manager", data)
    phases = phases_of(stamps)
    return msgspec.structs.replace(phases, chain=units["chain"], slowest=units["slow"])
