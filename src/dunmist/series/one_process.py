"""One process over a capture: what is too much to keep of every process is read again for one.

Takes the file and an identity, gives arrays over its ticks; NaN before it was there and after.
"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from dunmist.captures import CaptureReader
from dunmist.computer import ProcessSample
from dunmist.sampling import Tick
from dunmist.series.rates import NS_PER_S, Floats, increments


@dataclass(frozen=True, slots=True)
class OneProcess:
    """Rates have shape (intervals,), levels shape (ticks,); ``states`` is one letter a tick."""

    cores: Floats
    waiting: Floats
    read_bytes_per_s: Floats
    write_bytes_per_s: Floats
    major_faults_per_s: Floats
    rss_bytes: Floats
    private_bytes: Floats
    threads: Floats
    states: str


def load_process(path: Path, identity: int) -> OneProcess:
    """Return one process of a capture over its ticks; raises CaptureError."""
    at_s: list[float] = []
    samples: list[ProcessSample | None] = []
    with CaptureReader(path) as reader:
        about = reader.header.machine
        ended = False
        for line in reader.lines():
            if isinstance(line, Tick):
                at_s.append(line.at_s)
                # a sample is only there when something changed
                newest = next((one for one in line.processes if one.process == identity), None)
                kept = samples[-1] if samples and not ended else None
                samples.append(newest or kept)
            elif getattr(line, "what", None) == "exit":
                ended = ended or identity in getattr(line, "processes", ())
    interval_s = np.maximum(np.diff(np.array(at_s)), 1e-6)

    def level(name: str) -> Floats:
        values = [None if one is None else getattr(one, name) for one in samples]
        return np.array([np.nan if value is None else value for value in values], dtype=float)

    def rate(*names: str) -> Floats:
        grown: Floats = increments(sum((level(name) for name in names), np.zeros(len(samples))))
        return grown / interval_s

    rss = level("rss_pages") * about.page_bytes
    return OneProcess(
        cores=rate("user_clk", "system_clk") / about.clock_ticks_per_s,
        waiting=rate("delay_ns") / NS_PER_S,
        read_bytes_per_s=rate("read_bytes"),
        write_bytes_per_s=rate("write_bytes"),
        major_faults_per_s=rate("major_faults"),
        rss_bytes=rss,
        private_bytes=rss - np.nan_to_num(level("shared_pages")) * about.page_bytes,
        threads=level("threads"),
        states="".join("·" if one is None else one.state for one in samples),
    )
