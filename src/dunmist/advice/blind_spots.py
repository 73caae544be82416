"""Put blind spots into words: what a capture could not see, and what would reveal it."""

from dunmist.advice.amounts import span_text
from dunmist.advice.triage import BlindSpot
from dunmist.advice.wording import wording
from dunmist.captures import Unseen
from dunmist.sampling.busy_threads import WATCHED_PROCESSES, WATCHED_SHARE, WATCHED_THREADS
from dunmist.series import Series

# programs with many threads that are named
NAMES_MOST = 3


def blind_spots_of(series: Series) -> list[BlindSpot]:
    """Return the blind spots of a capture, each with its reason and remedy."""
    unseen = series.footer.blind_spots if series.footer else series.header.blind_spots
    spots = [_blind_spot(spot.subject, _reason(spot, series), spot.count) for spot in unseen]
    spots += [
        _blind_spot(subject, "impossible", count) for subject, count in series.dropped.items()
    ]
    temperatures = [
        sensor
        for sensor in series.devices.sensors
        if sensor.quantity == "temperature" and sensor.is_trusted
    ]
    silent = [
        link.name
        for link in series.devices.outward_links
        if link.used is None
        and link.sent_bytes_per_s.total() + link.received_bytes_per_s.total() > 0
    ]
    if silent:
        spots.append(
            BlindSpot(
                f"how full {', '.join(silent)} can be",
                "the driver publishes no speed: it is judged by its queue where it has one",
                "compare what it carried (dunmist view links) with what its line should bear",
            )
        )
    if temperatures and series.processor_sensor is None:
        spots.append(
            BlindSpot(
                "the temperature of the processor",
                f"none of the {len(temperatures)} temperatures says that it is the processor's",
                "'dunmist view heat' has all of them",
            )
        )
    spots += _missing_drivers(series)
    spots += _silent_cards(series)
    spots += _crowds_of_threads(series)
    if series.damage:
        spots.append(BlindSpot("the end of the capture", series.damage, "sample again"))
    if series.line.gap_s:
        spots.append(
            BlindSpot(
                f"{span_text(series.line.gap_s)} of {span_text(series.duration_s)}",
                "nothing was sampled then (asleep, stopped, far too busy): no figure includes it",
                "sample again",
            )
        )
    if series.missed_outside_gaps:
        spots.append(
            BlindSpot(
                f"{series.missed_outside_gaps} ticks",
                "the computer was too busy to sample in time",
                "sample again with a longer --every",
            )
        )
    return spots


def _silent_cards(series: Series) -> list[BlindSpot]:
    """Return the graphics cards of which nothing tells how busy they are."""
    words = wording()
    what = words["blind_spot"]["use of a graphics card"]
    return [
        BlindSpot(what.format(name=card.name), words["why"]["absent"], words["remedy"]["absent"])
        for card in series.devices.graphics
        if not card.busy.is_known
    ]


def _crowds_of_threads(series: Series) -> list[BlindSpot]:
    """Return the busy programs that have more threads than are read in each round."""
    words = wording()["threads"]
    busy = sorted(
        (
            (process.cores.known_or(0.0).greatest() or 0.0, process.last.threads, process.name)
            for process in series.processes.values()
            if process.last is not None and process.last.threads > 1
        ),
        reverse=True,
    )[:WATCHED_PROCESSES]
    watched = [(count, name) for used, count, name in busy if used >= WATCHED_SHARE]
    there = sum(count for count, _ in watched)
    if there <= WATCHED_THREADS:
        return []
    names = ", ".join(name for _, name in sorted(watched, reverse=True)[:NAMES_MOST])
    return [
        BlindSpot(
            words["what"].format(names=names),
            words["why"].format(there=there, each=WATCHED_THREADS),
            words["remedy"],
        )
    ]


def _missing_drivers(series: Series) -> list[BlindSpot]:
    """Return the sensors whose drivers are not loaded, with the command that loads them."""
    words = wording()["driver"]
    return [
        BlindSpot(
            words[driver.of],
            words["why"].format(module=driver.module),
            words["load" if driver.is_installed else "install"].format(module=driver.module),
        )
        for driver in series.header.inventory.missing_drivers
    ]


def _blind_spot(subject: str, reason: str, count: int) -> BlindSpot:
    words = wording()
    # of what is not published at all, files that could have been are counted, and nothing else
    many = f" ({count} of them)" if count > 1 and not reason.startswith("absent") else ""
    why = "permission" if reason == "permission-privileged" else reason
    return BlindSpot(
        what=words["blind_spot"].get(subject, subject),
        why=words["why"][why] + many,
        remedy=words["remedy"][reason],
    )


def _reason(unseen: Unseen, series: Series) -> str:
    # files withheld from a shell and missing files look the same from here
    if unseen.reason == "absent" and series.header.by_shell:
        return "absent-shell"
    if unseen.reason == "permission" and series.header.privileged:
        return "permission-privileged"
    return unseen.reason
