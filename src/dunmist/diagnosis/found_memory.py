"""Findings about memory: who holds it, who loses it, and what its lack does."""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.known import Known, application_finding, typical
from dunmist.diagnosis.records import Finding, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Severity, is_strained
from dunmist.series import Series
from dunmist.series.naming import main_identity
from dunmist.series.rates import Floats


def memory_findings(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    """Return them."""
    return [
        *_held(series, limits),
        *_leaks(series, limits),
        *_short(series, known, limits),
        *_paging(series, limits),
        *_killed(series),
        *_modules(series, limits),
    ]


def _held(series: Series, limits: Thresholds) -> list[Finding]:
    total = float(np.nanmedian(series.machine.memory_bytes("MemTotal")))
    held = np.median(series.processes.private_bytes, axis=0)
    return [
        application_finding(
            "memory-hog",
            "concern",
            series,
            int(number),
            [Sign("app-memory", float(held[number]), "bytes", "/proc/PID/statm", of=total)],
        )
        for number in np.flatnonzero(held >= limits["findings"]["memory_hog"] * total)
    ]


def _age_s(series: Series, number: int) -> float | None:
    """Return how long an application's oldest process had run at the end of the capture."""
    identity = main_identity(series, number)
    if identity is None or np.isnan(series.machine.uptime_s):
        return None
    start_clk = series.processes.grouping.facts(identity).start_clk
    return series.machine.uptime_s - start_clk / series.header.machine.clock_ticks_per_s


def _leaks(series: Series, limits: Thresholds) -> list[Finding]:
    table, at_s = limits["findings"], series.machine.at_s
    found = []
    for number, application in enumerate(series.processes.grouping.applications):
        held = series.processes.private_bytes[:, number]
        # a start-up fills memory as well: only what still grows in the second half counts
        half = len(held) // 2
        grown = float(held[-1] - held[half])
        if application.observer or grown < table["leak_least_bytes"]:
            continue
        slope = growth(held[half:], at_s[half:])
        if slope.typical >= table["leak_bytes_per_s"] and slope.rising >= table["leak_rising"]:
            signs = [
                Sign("leak", slope.typical, "bytes/s", "/proc/PID/statm"),
                Sign("leak-least", slope.least, "bytes/s", "/proc/PID/statm", of=slope.most),
                Sign("leak-rising", slope.rising, "share", "/proc/PID/statm"),
            ]
            age_s = _age_s(series, number)
            if age_s is not None and age_s < table["leak_age_s"]:
                signs.append(Sign("app-age", age_s, "s", "/proc/PID/stat"))
                found.append(application_finding("memory-growing", "note", series, number, signs))
            else:
                found.append(application_finding("memory-leak", "concern", series, number, signs))
    return found


class Growth(NamedTuple):
    """A robust slope per second with its interval of 95 %, and the share of steps that rose."""

    typical: float
    least: float
    most: float
    rising: float


def growth(values: Floats, at_s: Floats) -> Growth:
    """Return the slope that half of all pairs exceed (Theil and Sen); a jump alone gives none."""
    if len(values) < 3:
        return Growth(0.0, 0.0, 0.0, 0.0)
    # few captures have a candidate, so few pay for the import
    from scipy.stats import theilslopes

    found = theilslopes(values, at_s, alpha=0.95)
    rising = float(np.mean(np.diff(values) > 0))
    return Growth(float(found.slope), float(found.low_slope), float(found.high_slope), rising)


def _short(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    """Work that waits for memory: there is too little, or a limit keeps somebody from it."""
    state = next(one for one in known.states if one.resource == "memory")
    if not is_strained(state.level):
        return []
    severity: Severity = "urgent" if state.level == "choked" else "concern"
    if 1.0 - state.used < limits["memory"]["plenty_available"]:
        return [Finding("memory-short", severity, "memory", state.signs)]
    faults = np.average(series.processes.major_faults_per_s, axis=0,
                        weights=series.machine.interval_s)  # fmt: skip
    if not faults.any():
        return [Finding("memory-limited", severity, "some program", state.signs)]
    number = int(np.argmax(faults))
    signs = [
        *state.signs,
        Sign("app-major-faults", float(faults[number]), "per second", "/proc/PID/stat"),
    ]
    return [application_finding("memory-limited", severity, series, number, signs)]


def _paging(series: Series, limits: Thresholds) -> list[Finding]:
    paging = series.machine.paging
    rates = [paging[word] for word in ("pswpin", "pswpout") if word in paging]
    if not rates:
        return []
    both = typical(series, np.minimum.reduce(rates), limits)
    if both < limits["findings"]["paging_pages_per_s"] / 2:
        return []
    total = typical(series, sum(rates[1:], rates[0]), limits)
    sign = Sign("memory-paging", total, "pages/s", "/proc/vmstat")
    return [Finding("paging-storm", "urgent", "swap", [sign])]


def _killed(series: Series) -> list[Finding]:
    rate = series.machine.paging.get("oom_kill")
    if rate is None:
        return []
    count = float(np.nansum(rate * series.machine.interval_s))
    if count < 0.5:
        return []
    sign = Sign("oom-kills", round(count), "processes", "/proc/vmstat")
    return [Finding("oom-kill", "urgent", "memory", [sign])]


def _modules(series: Series, limits: Thresholds) -> list[Finding]:
    firmware = series.header.inventory.firmware
    if firmware is None:
        return []
    found = []
    for one in firmware.modules:
        rated, configured = one.rated_mtps, one.configured_mtps
        if rated and configured and configured < limits["findings"]["below_rating"] * rated:
            sign = Sign("module-speed", float(configured), "MT/s", "SMBIOS", of=float(rated))
            found.append(
                Finding("memory-below-rating", "note", one.slot or "a memory module", [sign])
            )
    listed = sum(one.size_bytes or 0 for one in firmware.modules)
    managed = series.header.machine.memory_bytes * 1.0
    managed = managed if managed > 0 else float(listed)
    if listed and (listed - managed) / listed >= limits["findings"]["module_unused"]:
        sign = Sign("module-unused", float(listed - managed), "bytes", "SMBIOS", of=float(listed))
        found.append(Finding("memory-module-unused", "concern", "memory", [sign]))
    return found
