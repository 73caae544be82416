"""Whether paging and used swap matter on this computer, in one sentence."""

from dunmist.advice.amounts import percent
from dunmist.advice.wording import wording
from dunmist.diagnosis import Diagnosis, is_strained


def paging_sentence(diagnosis: Diagnosis) -> str:
    """Return what the traffic to and from swap means here."""
    words, table = wording()["paging"], diagnosis.limits.advice
    memory = next(one for one in diagnosis.resources if one.resource == "memory")
    swap = next((one for one in diagnosis.resources if one.resource == "swap"), None)
    pages = next((sign.value for sign in memory.signs if sign.key == "memory-paging"), 0.0)
    used = swap.used if swap else 0.0
    if is_strained(memory.level):
        key = "short-paging" if pages >= table.quiet_pages_per_s else "short-quiet"
    elif pages >= table.quiet_pages_per_s:
        key = "some"
    elif used >= table.swap_used_least:
        key = "used-quiet"
    else:
        key = "nothing" if swap else "no-swap"
    held = percent(memory.pressure or 0.0)
    return words[key].format(pages=f"{pages:.0f}", used=percent(used), held=held)
