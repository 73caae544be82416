"""What stands in a report beside the triage: what was done before, and what is not as usual."""

from collections.abc import Sequence
from pathlib import Path

from dunmist.advice import Judged
from dunmist.jobs.acts import done_before
from dunmist.jobs.comparison import beside_normal
from dunmist.reports import Section, beside_normal_section, done_section


def sections_beside(judged: Judged, normal: Sequence[Path] = ()) -> list[Section]:
    """Return the sections that follow what to do; raises CaptureError, SettingsError and Refused.

    What was done is told of a capture of this computer in its boot only.
    """
    header = judged.series.header
    sections = [done_section(done_before(header))] if header.live else []
    if normal:
        sections.append(beside_normal_section(beside_normal(judged, normal)))
    return sections
