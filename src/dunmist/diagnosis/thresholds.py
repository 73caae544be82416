"""The figures that decide, from ``thresholds.toml`` beside this module, which has their reasons.

A file of the same form may change single figures; a name that the table does not have is an error,
so that a slip does not go unseen. Each subject is a record here, so that a rule that asks for a
figure that is not there does not pass the type check.
"""

import tomllib
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import msgspec

from dunmist.errors import SettingsError
from dunmist.series import DiskKind
from dunmist.trusted_paths import read_settings


class _Figures(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The figures of one subject."""


class Lasting(_Figures, frozen=True):
    """What counts as lasting."""

    share: float


class ProcessorLimits(_Figures, frozen=True):
    """All logical processors together."""

    busy: float
    strained_used: float
    strained_pressure: float
    strained_held_up: float
    choked_used: float
    choked_pressure: float
    choked_held_up: float
    low_priority_weight: float
    low_priority_share: float
    competes_cores: float
    light_weight: float
    split_least: float


class CoreLimits(_Figures, frozen=True):
    """A single logical processor."""

    full: float
    bound_share: float
    least_s: float
    ran_least: float
    waited_most: float
    many_least: float
    many_share: float
    busy: float
    candidate_cores: float
    left_least: float
    thread_coverage_min: float
    idle_cores: float
    parallel_share: float
    single_core_max: float
    seldom: float
    busiest_share_max: float
    handoff_wait_max: float


class MemoryLimits(_Figures, frozen=True):
    """Memory."""

    burst_s: float
    thrashing_pressure: float
    thrashing_pages_per_s: float
    busy: float
    strained_pressure: float
    choked_pressure: float
    strained_pages_per_s: float
    choked_pages_per_s: float
    short_available: float
    exhausted_available: float
    exhausted_bytes: float
    plenty_available: float


class HeatLimits(_Figures, frozen=True):
    """Heat and clock."""

    near_kelvin: float
    busy_kelvin: float
    near_kelvin_of_parts: float
    assumed_critical_celsius: float
    room_celsius: float
    busy_processor: float
    full_clock: float
    strained_lost: float
    choked_lost: float
    throttled_share: float
    idle_used: float
    idle_hot_celsius: float
    fan_stopped_celsius: float
    low_clock: float
    few_processors: float
    low_clock_crowded: float
    below_base: float


class DiskLimits(_Figures, frozen=True):
    """Physical disks."""

    busy: float
    strained_used: float
    choked_used: float
    crowded_queue: float
    crowded_used: float
    waited_used: float
    waited_held_up: float
    strained_held_up: float
    choked_held_up: float
    slow_bytes_per_s: float


class DiskKindLimits(_Figures, frozen=True):
    """What a disk of one kind needs for a request."""

    access_s: float
    bytes_per_s: float
    slow_s: float


class StorageLimits(_Figures, frozen=True):
    """Room and inodes of file systems."""

    full: float
    strained: float
    choked: float


class LinkLimits(_Figures, frozen=True):
    """Network links."""

    queued_bytes: float
    queued_share: float
    queue_window_s: float
    busy: float
    strained_used: float
    choked_used: float


class GraphicsLimits(_Figures, frozen=True):
    """Graphics cards."""

    busy: float
    strained_used: float
    choked_used: float


class CulpritLimits(_Figures, frozen=True):
    """Who is ranked, and in which role."""

    attributed_least: float
    least_score: float
    least_first: float
    outside_share: float
    most: float
    victim_waiting: float
    victim_score: float
    victim_waited: float
    victim_part: float
    victim_io_waiting: float
    moved_least_bytes_per_s: float
    waiting_least: float
    short_lived_least: float


class CoverageLimits(_Figures, frozen=True):
    """From what on coverage can be told."""

    cpu_least_s: float
    traffic_least_bytes: float


class FindingLimits(_Figures, frozen=True):
    """Single findings."""

    unclean_within_s: float
    charger_short_w: float
    unclean_least: int
    cpu_hog: float
    steady_cores: float
    steady_spread: float
    spawn_forks_per_s: float
    spawn_cores: float
    memory_hog: float
    stolen: float
    defunct: float
    recent_restart_s: float
    long_uptime_s: float
    interrupts: float
    kernel_cores: float
    thread_swarm: float
    threads_odd: float
    swarm_waiting: float
    leak_bytes_per_s: float
    leak_rising: float
    leak_least_bytes: float
    leak_age_s: float
    link_errors_per_s: float
    retransmitted: float
    segments_least: float
    transfer_bytes_per_s: float
    transfer_spread: float
    quota_limited: float
    restarts: float
    restarts_in_all: float
    descriptor_rise_per_s: float
    descriptor_grown_least: float
    descriptor_grown_young: float
    limit_near: float
    other_user: float
    autostart_cores_share: float
    autostart_least: float
    below_rating: float
    module_unused: float
    battery_hours: float
    battery_worn: float
    blocked_share: float
    paging_pages_per_s: float
    name_least: float
    stuck_ticks: float
    stuck_cores: float


class ConfidenceLimits(_Figures, frozen=True):
    """How sure a verdict is, and what it is called."""

    least: float
    most: float
    margin_slope: float
    margin_middle: float
    quarters_half: float
    very: float
    likely: float
    well_covered: float
    few_intervals: float


class SignLimits(_Figures, frozen=True):
    """Signs that tell what kind of work a program does."""

    boot_s: float
    uses_disk_bytes_per_s: float
    sends_bytes_per_s: float
    short_lived_share: float
    matters_cores: float
    low_priority_share: float


class AdviceLimits(_Figures, frozen=True):
    """What steps take and what sentences pass over."""

    limit_share: float
    limit_least_percent: float
    quiet_pages_per_s: float
    swap_used_least: float


class EffectLimits(_Figures, frozen=True):
    """Whether an act helped."""

    least_change: float


class BadWindowLimits(_Figures, frozen=True):
    """When it was bad."""

    long_s: float
    least_s: float
    bridge_s: float


class CompareLimits(_Figures, frozen=True):
    """What makes a difference between captures."""

    intervals_least: float
    sampled_least: float
    captures_least: float
    least_share: float
    least_kelvin: float
    least_clock_share: float
    least_cores: float
    least_of_processors: float
    least_of_memory: float
    least_bytes_per_s: float
    overlap_least: float
    overlap_reach: float
    spread_least: float


class ProveLimits(_Figures, frozen=True):
    """What makes a proof by alternation."""

    cause_fall: float
    part_fall: float
    waiting_least: float
    queue_least: float
    bytes_least: float
    backlog_most: float


class SureLimits(_Figures, frozen=True):
    """When a verdict is sure enough to stop sampling."""

    share_low: float
    share_high: float
    error: float
    least_s: float
    confidence_least: float


class DriveLimits(_Figures, frozen=True):
    """What a drive says of itself that is worth a word."""

    lost_sectors: int
    used_percent: int
    reallocated: int
    interface_errors: int


class StartLimits(_Figures, frozen=True):
    """How long a phase of the start may take, and a unit that others wait for."""

    firmware_s: float
    loader_s: float
    kernel_s: float
    initrd_s: float
    services_s: float
    unit_s: float


class ComplaintLimits(_Figures, frozen=True):
    """How many complaints of the kernel make a finding, the last of them within so many seconds."""

    least: int
    within_s: float


class Thresholds(_Figures, frozen=True):
    """All figures by subject."""

    lasting: Lasting
    complaints: dict[str, ComplaintLimits]
    drives: DriveLimits
    start: StartLimits
    cpu: ProcessorLimits
    core: CoreLimits
    memory: MemoryLimits
    heat: HeatLimits
    disk: DiskLimits
    disk_spinning: DiskKindLimits
    disk_solid: DiskKindLimits
    disk_card: DiskKindLimits
    disk_network: DiskKindLimits
    storage: StorageLimits
    link: LinkLimits
    gpu: GraphicsLimits
    culprit: CulpritLimits
    coverage: CoverageLimits
    findings: FindingLimits
    confidence: ConfidenceLimits
    signs: SignLimits
    advice: AdviceLimits
    effect: EffectLimits
    prove: ProveLimits
    sure: SureLimits
    stretch: BadWindowLimits
    compare: CompareLimits

    def of_disk(self, kind: DiskKind) -> DiskKindLimits:
        """Return what a disk of a kind needs."""
        kinds: dict[DiskKind, DiskKindLimits] = {
            "spinning": self.disk_spinning,
            "solid": self.disk_solid,
            "card": self.disk_card,
            "network": self.disk_network,
        }
        return kinds[kind]


@cache
def _table() -> dict[str, dict[str, Any]]:
    text = (files("dunmist.diagnosis") / "thresholds.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


@cache
def thresholds() -> Thresholds:
    """Return the figures of the table."""
    return msgspec.convert(_table(), Thresholds)


def load_thresholds(path: Path) -> Thresholds:
    """Return the figures with those of a file in their place; raises SettingsError.

    Without a file they are those of the table.
    """
    try:
        text = read_settings(path)
        if text is None:
            return thresholds()
        changes = tomllib.loads(text)
    except (OSError, ValueError) as error:
        raise SettingsError(
            f"{path}: no table of thresholds ({error}); mend it, or move it away"
        ) from error
    merged = {subject: dict(figures) for subject, figures in _table().items()}
    for subject, figures in changes.items():
        for name, figure in figures.items() if isinstance(figures, dict) else [("", None)]:
            known = name in merged.get(subject, {})
            if not known or isinstance(figure, bool) or not isinstance(figure, int | float):
                raise SettingsError(
                    f"{path}: there is no threshold '{subject}.{name}' that is a number; "
                    f"docs/ranking.md lists them"
                )
            merged[subject][name] = float(figure)
    return msgspec.convert(merged, Thresholds)
