"""Find applications that wait although they get far less than an equal part of the CPUs.

They would have all that they want if nobody took more than a part (max-min fairness: Bertsekas and
Gallager, Data Networks, 6.5.2): victims of the others, however many of them are ranked before.
"""

from collections.abc import Iterable

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.quotas import quota_limited


def find_starved(exam: Examination) -> frozenset[int]:
    """Return the numbers of those who wait and take far less than an equal part."""
    table, limited = exam.limits.culprit, exam.once(quota_limited)
    # tasks stopped by their own quota cannot get more CPU time from others
    wanted = {
        application: application.cores.mean() + application.waiting.mean()
        for application in exam.applications
        if not (application.observer or application.kernel or application.number in limited)
    }
    competing = [app for app in wanted if wanted[app] >= exam.limits.cpu.competes_cores]
    part = _equal_part((wanted[app] for app in competing), exam.series.machine.online.mean())
    if part is None:
        return frozenset()  # no application takes CPU time that others lack
    return frozenset(
        app.number
        for app in competing
        if app.waiting.mean() >= table.victim_waited * wanted[app]
        and app.cores.mean() <= table.victim_part * part
    )


def _equal_part(wanted: Iterable[float], processors: float) -> float | None:
    """Return the fair share of each; those that want less leave the rest to the others.

    None if all of them can have what they want.
    """
    rising = sorted(wanted)
    left = processors
    for index, amount in enumerate(rising):
        part = left / (len(rising) - index)
        if amount > part:
            return part
        left -= amount
    return None
