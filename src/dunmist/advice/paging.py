"""Whether paging and used swap matter on this computer, in one sentence."""

from dunmist.advice.amounts import percent
from dunmist.advice.tables import wording
from dunmist.diagnosis import Diagnosis, is_strained

QUIET_PAGES_PER_S = 1.0
USED_LEAST = 0.01


def paging_sentence(diagnosis: Diagnosis) -> str:
    """Return what the traffic to and from swap means here."""
    words = wording()["paging"]
    memory = next(one for one in diagnosis.resources if one.resource == "memory")
    swap = next((one for one in diagnosis.resources if one.resource == "swap"), None)
    pages = next((sign.value for sign in memory.signs if sign.key == "memory-paging"), 0.0)
    used = swap.used if swap else 0.0
    if is_strained(memory.level):
        key = "short-paging" if pages >= QUIET_PAGES_PER_S else "short-quiet"
    elif pages >= QUIET_PAGES_PER_S:
        key = "some"
    elif used >= USED_LEAST:
        key = "used-quiet"
    else:
        key = "nothing" if swap else "no-swap"
    return words[key].format(pages=f"{pages:.0f}", used=percent(used), held=percent(memory.pressure
                             or 0.0))  # fmt: skip
