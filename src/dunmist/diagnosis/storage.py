"""Resource ``storage``: is there room left, and are there inodes left?"""

from dunmist.computer import FileSystem
from dunmist.diagnosis.records import ResourceState, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Level
from dunmist.series import Series


def used_share(one: FileSystem) -> float | None:
    """Return the share of what people may use that is used, None when it did not answer."""
    if one.size_bytes is None or one.free_bytes is None or one.available_bytes is None:
        return None
    used = one.size_bytes - one.free_bytes
    return used / (used + one.available_bytes) if used + one.available_bytes else None


def inodes_share(one: FileSystem) -> float | None:
    """Return the share of inodes in use, None where the type has no fixed number."""
    if not one.inodes or one.inodes_free is None:
        return None
    return 1.0 - one.inodes_free / one.inodes


def writable(series: Series) -> list[FileSystem]:
    """Return the file systems that can fill up."""
    survey = series.last_survey
    return [one for one in (survey.file_systems if survey else []) if not one.read_only]


def judge_storage(series: Series, limits: Thresholds) -> ResourceState | None:
    """Return the state of the fullest file system, None where none could be asked."""
    table = limits["storage"]
    shares = [
        (max(used, inodes_share(one) or 0.0), used, one)
        for one in writable(series)
        if (used := used_share(one)) is not None
    ]
    if not shares:
        return None
    most, used, fullest = max(shares, key=lambda row: row[0])
    level: Level = "calm"
    for word, least in (("busy", "full"), ("strained", "strained"), ("choked", "choked")):
        if most >= table[least]:
            level = word  # type: ignore[assignment]
    signs = [
        Sign("storage-used", used, "share", "statvfs(3)", of=float(fullest.size_bytes or 0),
             name=fullest.point)
    ]  # fmt: skip
    inodes = inodes_share(fullest)
    if inodes is not None:
        signs.append(Sign("storage-inodes", inodes, "share", "statvfs(3)"))
    return ResourceState("storage", level, most, None, signs, name=fullest.point)
