"""Resource ``storage``: is there room left, and are there inodes left?"""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import figure
from dunmist.diagnosis.resources.declared import Resource, ResourceInstance
from dunmist.diagnosis.words import LevelWord
from dunmist.series import Storage


def writable_storage(exam: Examination) -> list[Storage]:
    """Return the file systems that can fill up."""
    return [
        file_system
        for file_system in exam.series.surveyed.storage
        if not file_system.about.read_only
    ]


def _instances(exam: Examination) -> list[ResourceInstance]:
    """Return the fullest file system, nothing where none could be asked."""
    table = exam.limits.storage
    answered = [storage for storage in exam.once(writable_storage) if storage.fullest is not None]
    if not answered:
        return []
    fullest = max(answered, key=lambda file_system: file_system.fullest or 0.0)
    share = fullest.fullest or 0.0
    bounds: tuple[tuple[LevelWord, float], ...] = (
        ("choked", table.choked),
        ("strained", table.strained),
        ("busy", table.full),
    )
    level: LevelWord = next((word for word, least in bounds if share >= least), "calm")
    size_bytes = float(fullest.about.size_bytes or 0)
    evidence = [figure("storage-used", fullest.used or 0.0, of=size_bytes, name=fullest.point)]
    if fullest.inodes is not None:
        evidence.append(figure("storage-inodes", fullest.inodes))
    return [ResourceInstance(fullest.point, share, None, {}, evidence, level)]


STORAGE = Resource(
    "storage",
    4,
    _instances,
    demand=None,
    saving=None,
    coverage=None,
    follows_at_once=False,
    is_load=False,
)
