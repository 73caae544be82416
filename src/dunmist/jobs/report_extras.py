"""Parts of a report in addition to the triage: what was done, what it brought, what is unusual."""

from collections.abc import Sequence
from pathlib import Path

from dunmist.advice import Judged
from dunmist.jobs.acts import done_until, done_within
from dunmist.jobs.comparison import compare_parts, compare_with_normal
from dunmist.output import STANDARD
from dunmist.reports import Section, before_after_section, done_section, normal_section
from dunmist.series import Part

# a part that is shorter says nothing, and one of few ticks cannot be judged; what was done may take
# as long to be felt
PART_LEAST_S, TICKS_LEAST, FELT_AFTER_S = 5.0, 3, 2.0


def extra_sections(judged: Judged, normal: Sequence[Path] = ()) -> list[Section]:
    """Return the sections that follow what to do; raises CaptureError, SettingsError and Refused.

    What was done is reported only for a capture of this computer in its boot.
    """
    header, series = judged.series.header, judged.series
    sections = []
    if header.live:
        end_s = series.since_s + series.duration_s
        sections.append(done_section(done_until(header, end_s)))
        # standard input cannot be read again
        if str(series.path) != STANDARD:
            sections += _around_acts(judged, done_within(header, end_s), end_s)
    if normal:
        sections.append(normal_section(compare_with_normal(judged, normal)))
    return sections


def _around_acts(judged: Judged, acts_s: Sequence[float], end_s: float) -> list[Section]:
    """Compare the time before the first act in a capture with the time since the last one."""
    series = judged.series
    least_s = max(PART_LEAST_S, TICKS_LEAST * series.header.plan.every_s)
    if not acts_s or acts_s[0] < least_s or end_s - acts_s[-1] < least_s + FELT_AFTER_S:
        return []
    before, after = Part(0.0, acts_s[0]), Part(acts_s[-1] + FELT_AFTER_S, end_s)
    return [before_after_section(compare_parts(series.path, before, after))]
