"""The head of the desk: what limits the computer, how sure that is, who, and the last minutes."""

from collections.abc import Iterable

from rich.text import Text

from dunmist.captures import Header
from dunmist.desk.judgement import Judgement
from dunmist.desk.visit import Visit
from dunmist.harmless import harmless
from dunmist.recorder import Gauge, Now
from dunmist.sparklines import curve_text

# of the 256 colours, those of reports/styles.py, which loads what no live screen needs
LEVEL_STYLES = {
    "calm": "",
    "busy": "color(33)",
    "strained": "bold color(166)",
    "choked": "bold color(196)",
    "unknown": "dim",
}
LABEL, WORD, FIGURE = 8, 10, 32
FULL = 0.95
STRIP_MOST = 120
STEPS_FROM_S, STEP_S = 10.0, 5.0


def state_text(visit: Visit, header: Header | None, host: str, at_s: float, trouble: str) -> Text:
    """Return the first line: which computer, what is complained of, how it is sampled, trouble.

    ``host`` is the name that was judged, empty before; ``at_s`` is the newest tick's time.
    """
    host = host or harmless((header.machine.host if header else None) or "this computer")
    recording = header.recording if header else None
    run_s = at_s + (recording.after_s if recording else 0.0)
    every_s = header.plan.every_s if header else visit.every_s
    how = f"{visit.state} for {shown_s(run_s)} s, every {every_s:g} s"
    if not visit.options.is_live:
        how = f"{visit.path.name}, up to {at_s:.0f} s"
    elif not visit.is_sampling:
        how = f"sampling ended after {at_s:.0f} s"
    words = [host, how]
    if visit.note or visit.options.complaints:
        note = visit.note or ", ".join(visit.options.complaints)
        words.insert(1, f'"{harmless(note)}"')
    if news := visit.news():
        words.append(harmless(news))
    state = Text("  ·  ".join(words), "bold", no_wrap=True, overflow="ellipsis")
    if trouble:
        state.append(f"  ·  {harmless(trouble)}", "bold color(196)")
    return state


def answer_text(judgement: Judgement | None, age_s: float, width: int) -> Text:
    """Return the verdict with its age, the first suspect, the next step."""
    text = Text(no_wrap=False, overflow="fold")
    if judgement is None:
        text.append("Looking: the first verdict comes after some seconds of sampling.", "dim")
        return text
    text.append(judgement.level.upper(), LEVEL_STYLES.get(judgement.level, "") + " bold")
    text.append(f"  {judgement.headline}")
    sure = f"  (sure {100 * judgement.confidence:.0f} %, {shown_s(age_s)} s ago"
    text.append(sure + (f"; missing: {judgement.missing})" if judgement.missing else ")"), "dim")
    # an answer that only leads over to the verdict says nothing more
    if judgement.answer and not judgement.answer.endswith(":"):
        text.append(f"\n{judgement.answer}")
    first = judgement.suspects[0] if judgement.suspects else None
    if first is not None and first.why:
        text.append(f"\n{_cut(f'{first.name}: {first.why}', width)}")
    elif judgement.findings:
        more = len(judgement.findings) - 1
        also = f" (and {more} more)" if more else ""
        found = judgement.findings[0]
        text.append(f"\n{_cut(f'{found.severity}: {found.text}', width - len(also))}{also}")
    return text


def shown_s(seconds: float) -> int:
    """Return seconds as they are shown: later on in steps, as each other text is drawn again."""
    return int(seconds if seconds < STEPS_FROM_S else seconds // STEP_S * STEP_S)


def gauges_text(now: Now | None, width: int) -> Text:
    """Return a line for each resource with its last minutes, and one mark for each CPU."""
    if now is None:
        return Text("the first figures come with the second tick", "dim")
    lines = [_gauge_line(gauge, now, width) for gauge in now.gauges.values()]
    lines.append(_cpu_line(now, width))
    return Text("\n").join(lines)


def _gauge_line(gauge: Gauge, now: Now, width: int) -> Text:
    used = gauge.used[-1] if gauge.used else None
    held = gauge.held[-1] if gauge.held else None
    figure = "not known" if used is None else f"{100 * used:3.0f} % used"
    if gauge.name == "heat":
        figure = "not known" if now.celsius is None else f"{now.celsius:3.0f} °C"
        figure += f", {now.clock_hz / 1e9:.2f} GHz" if now.clock_hz else ""
    elif held is not None:
        figure += f", {100 * held:.0f} % waits"
    figure += f" {gauge.text}" if gauge.text else ""
    level = gauge.level or "unknown"
    line = Text(f"{gauge.name:<{LABEL}}", no_wrap=True, overflow="crop")
    line.append(f"{level:<{WORD}}", LEVEL_STYLES[level])
    line.append(f"{harmless(figure)[:FIGURE]:<{FIGURE}}")
    line.append(strip(gauge.used, min(STRIP_MOST, width - LABEL - WORD - FIGURE)))
    return line


def _cpu_line(now: Now, width: int) -> Text:
    full = sum(share > FULL for share in now.cpus)
    note = f"  {len(now.cpus)} CPUs, {full} full"
    marks = curve_text(now.cpus[: max(0, width - LABEL - len(note))], 1.0)
    line = Text(f"{'each':<{LABEL}}", no_wrap=True, overflow="crop")
    line.append(marks)
    line.append(note, "dim")
    return line


def strip(values: Iterable[float | None], room: int) -> str:
    """Return the last values that fit, the newest at the right."""
    kept = list(values)[-room:] if room > 0 else []
    return curve_text(kept, 1.0).rjust(max(0, room))


def _cut(text: str, width: int) -> str:
    return text if len(text) <= width else f"{text[: max(0, width - 1)]}…"
