"""The desk as lines of text: for a screen reader, a log, a terminal that can draw nothing."""

import time
from collections.abc import Callable

import msgspec

from dunmist.desk.follow import Follower
from dunmist.desk.judgement import Judgement
from dunmist.desk.visit import WINDOW_S, Visit, read_judgement
from dunmist.harmless import harmless
from dunmist.thresholds import Thresholds

# how often it is judged; the first time as soon as there is enough
FIRST_S, AGAIN_S, REFRESH_S = 5.0, 30.0, 0.2


def print_lines(visit: Visit, limits: Thresholds, say: Callable[[str], object]) -> None:
    """Print each new verdict, until Ctrl-C or the end of the capture.

    Raises UnreadableComputer where sampling never began.
    """
    follower = Follower(visit.path, limits, lambda: visit.is_sampling)
    said, next_s = "", FIRST_S
    try:
        while True:
            _, at_s = follower.latest()
            is_over = follower.is_over
            if is_over:
                visit.raise_if_never_begun()
            if is_over or at_s >= next_s:
                next_s = at_s + AGAIN_S
                since_s = max(0.0, at_s - WINDOW_S) if visit.options.is_live else 0.0
                text = _judged(visit, since_s, is_idle=bool(said))
                if text != said:
                    say(f"after {at_s:.0f} s. {text}")
                said = text
            if is_over:
                break
            time.sleep(REFRESH_S)
    except KeyboardInterrupt:
        say("ended")
    finally:
        follower.stop()
    if trouble := follower.trouble or visit.trouble():
        say(harmless(trouble))


def _judged(visit: Visit, since_s: float, *, is_idle: bool) -> str:
    answer, error = visit.judge(since_s, is_idle=is_idle).communicate()
    try:
        return verdict_text(read_judgement(answer))
    except msgspec.DecodeError:
        return harmless(f"Not judged: {error.decode('utf-8', 'replace').strip()}")


def verdict_text(judgement: Judgement) -> str:
    """Return the verdict with its suspects and findings, a sentence each."""
    lines = [
        f"{judgement.level.capitalize()}. {judgement.headline} "
        f"Sure {100 * judgement.confidence:.0f} %."
    ]
    lines += [judgement.answer] if judgement.answer else []
    lines += [f"{item.rank}. {item.name}, {item.role}: {item.why}." for item in judgement.suspects]
    lines += [f"{item.severity}: {item.text}" for item in judgement.findings]
    return "\n".join(lines)
