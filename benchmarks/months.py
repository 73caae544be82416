"""Drifts of histories with a known truth: how often one is told falsely, and how soon real ones.

Two models that differ make the histories; the rules were set beside the first, and never looked at
the second. Run it with ``make months``; it writes docs/months.json.
"""

import json
import sys
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np

from dunmist.history import DAY_S, ApplicationSum, DiskSum, Event, HeatSum, Level, Period
from dunmist.history.daily_figures import LATELY_DAYS, series_of
from dunmist.history.drifts import drift_of
from dunmist.jobs.model_months import ALIKE, PROGRAMS, Months, Rise

REPORT = Path(__file__).parent.parent / "docs" / "months.json"
YEARS, REAL = 1000, 60
DAYS, EVERY_DAYS, BEGAN_DAY = 365, 7, 22_000
# hours of a day that are made; what they hold stands for the whole day
HOURS = (9, 14)
WITHIN_DAYS = 14
KINDS = {
    "memory": "memory-drift",
    "cooling": "cooling-drift",
    "start": "start-drift",
    "disk": "disk-drift",
}


def by_the_first(seed, days, rise=None):
    """Return periods and events of the model that ships."""
    months = Months(
        days,
        seed,
        began_day=BEGAN_DAY,
        rises=(rise,) if rise else (),
        holiday=(120 + seed % 90, 14) if days > 200 else None,
    )
    periods = list(months.periods(HOURS))
    for period in periods:
        for each in period.applications.values():
            each.memory_s, each.memory_byte_s = 6 * each.memory_s, 6 * each.memory_byte_s
    return periods, months.events


def by_the_second(seed, days, rise=None):
    """Return days of another model: heavy tails, weeks of saw teeth, seasons in everything."""
    random = np.random.default_rng(90_000 + seed)
    names = [f"program-{number}" for number in range(10)]
    base = {name: float(random.uniform(60, 900)) * 2**20 for name in names}
    tooth = {name: float(random.choice([0.0, 0.0, 0.03])) for name in names}
    varies = {name: float(random.uniform(0.008, 0.035)) for name in names}
    moved = dict.fromkeys((*names, "disk", "cooling", "start"), 0.0)
    periods, events, used = [], [], 200e9
    factor = dict.fromkeys(moved, 1.0)

    def rises(what, name, day):
        if rise is None or (rise.what, rise.name) != (what, name):
            return 1.0
        return rise.at(day)

    for day in range(days):
        season = np.cos(2 * np.pi * (day + 17 * seed % 365) / 365.0)
        for name in moved:
            moved[name] = 0.5 * moved[name] + 0.6 * float(random.standard_t(5))
            if random.random() < 0.006:
                factor[name] *= float(random.choice([0.8, 0.9, 1.15, 1.3]))
        used += float(random.exponential(3e7))
        if random.random() < 0.02:
            used -= float(random.uniform(0, 2e9))
        if random.random() < 0.12:
            continue
        period = Period((BEGAN_DAY + day) * DAY_S, DAY_S, 0, 30_000.0, 0, 4, 16 << 30)
        for name in names:
            own = base[name] * factor[name] * np.exp(varies[name] * moved[name])
            own *= 1 + tooth[name] * (day % 7) / 7 + 0.02 * season
            own *= rises("memory", name, day)
            period.applications[name] = ApplicationSum(100.0, own * 30_000.0, 30_000.0, own * 1.1)
        slope = (
            6.0 * (1 + 0.05 * season) * (1 + 0.02 * moved["cooling"]) * rises("cooling", "", day)
        )
        heat = HeatSum()
        for cores, seconds in ((0.2, 15_000.0), (1.0, 9_000.0), (3.0, 6_000.0)):
            celsius = 38 - 4 * season + slope * cores
            heat.load_s += seconds
            heat.load_core_s += cores * seconds
            heat.load_celsius_s += celsius * seconds
            heat.load_core2_s += cores * cores * seconds
            heat.load_core_celsius_s += cores * celsius * seconds
        period.heat = heat
        wait_s = 0.006 * factor["disk"] * np.exp(0.04 * moved["disk"]) * rises("disk", "sda", day)
        period.disks["sda"] = DiskSum(20_000.0, 20_000.0 * wait_s)
        period.levels["storage", "sda1"] = Level("storage", "sda1", used, 500e9)
        full = round(100 * (1 - 6e-5 * day)) / 100
        period.levels["battery", "BAT0"] = Level("battery", "BAT0", full * 4e7, 4e7)
        periods.append(period)
        if random.random() < 0.8:
            took_s = 40 * factor["start"] * (1 + 0.04 * moved["start"]) * rises("start", "", day)
            events.append(
                Event(float((BEGAN_DAY + day) * DAY_S + 30_000), "start", "start", took_s)
            )
    return periods, events


def possible(varies, alike, step, runs=2000):
    """Return how many drifts any test can tell on day 14, where it tells one of 100 steps falsely.

    The test knows the noise and how steep a drift is; when it began it does not know. The steps are
    as large as the first model's, at any of the last thirty days.
    """
    random, days = np.random.default_rng(1), np.arange(60.0)
    made_independent = np.eye(60)
    made_independent[range(1, 60), range(59)] = -alike
    made_independent[1:] /= (1 - alike**2) ** 0.5
    level = made_independent @ np.ones(60)
    bases = {}
    for kind, rows in (
        ("drift", [np.maximum(0, days - place) for place in range(30, 55)]),
        ("step", [(days >= place).astype(float) for place in range(30, 59)]),
    ):
        both = (np.stack([level, made_independent @ row], axis=1) for row in rows)
        bases[kind] = [np.linalg.qr(each)[0] for each in both]

    def better(kind):
        noise = np.linalg.solve(made_independent, random.normal(size=60)) * varies
        if kind == "drift":
            values = noise + np.maximum(0, days - 45) / 56
        else:
            values = noise + np.exp((days >= random.integers(30, 59)) * random.normal() * step)
        seen = made_independent @ values / varies
        told = {name: max(((q.T @ seen) ** 2).sum() for q in each) for name, each in bases.items()}
        return told["drift"] - told["step"]

    least = np.quantile([better("step") for _ in range(runs)], 0.99)
    return round(float(np.mean([better("drift") > least for _ in range(runs)])), 2)


MODELS = {"first": by_the_first, "second": by_the_second}


def false_ones(model, seed):
    """Return the drifts that are told in a year without any; what goes on counts once."""
    periods, events = MODELS[model](seed, DAYS)
    told = []
    for each in series_of(periods, events, DAYS):
        last = None
        for day in range(BEGAN_DAY + 30, BEGAN_DAY + DAYS, EVERY_DAYS):
            so_far = [point for point in each.points if day - LATELY_DAYS <= point.day < day]
            if drift_of(each._replace(points=so_far)) is not None:
                if last is None or day - last > 30:
                    told.append(each.word)
                last = day
    return told


def found_after(model, number):
    """Return what doubles in eight weeks, and after how many days that is told, None if never."""
    kinds = list(KINDS)
    what = kinds[number % len(kinds)]
    name = {"disk": "sda"}.get(what, "")
    if what == "memory":
        services = [each.name for each in PROGRAMS if each.is_service and each.memory_bytes > 1e8]
        chosen = services if model == "first" else [f"program-{place}" for place in range(10)]
        name = chosen[number // len(kinds) % len(chosen)]
    began = 60 + number % 11
    periods, events = MODELS[model](5000 + number, began + 57, Rise(what, name, began))
    for each in series_of(periods, events):
        if each.word != KINDS[what] or each.name != name:
            continue
        for day in range(BEGAN_DAY + began + 5, BEGAN_DAY + began + 57):
            so_far = [point for point in each.points if point.day < day + 1]
            if drift_of(each._replace(points=so_far)) is not None:
                return what, day - BEGAN_DAY - began
    return what, None


def main(years, real):
    result = {
        "date": time.strftime("%Y-%m-%d"),
        "years": years,
        "possible_within_second_week": {
            "start": possible(0.04, ALIKE, 0.3),
            "disk": possible(0.05, ALIKE, 0.3),
        },
        "models": {},
    }
    print(result, flush=True)
    with ProcessPoolExecutor() as pool:
        for model in MODELS:
            told = Counter()
            for words in pool.map(partial(false_ones, model), range(years), chunksize=4):
                told.update(words)
            after = {kind: [] for kind in KINDS}
            for what, day in pool.map(partial(found_after, model), range(real * len(KINDS))):
                after[what].append(day)
            every = [day for days in after.values() for day in days]
            result["models"][model] = {
                "false": dict(told),
                "false_per_100_years": round(100 * sum(told.values()) / years, 2),
                "found_within_second_week": {
                    what: round(
                        sum(d is not None and d <= WITHIN_DAYS for d in days) / len(days), 3
                    )
                    for what, days in after.items()
                },
                "median_day": {
                    what: sorted(99 if day is None else day for day in days)[len(days) // 2]
                    for what, days in after.items()
                },
                "never": sum(day is None for day in every),
            }
            print(model, json.dumps(result["models"][model]), flush=True)
    REPORT.write_text(json.dumps(result, indent=1) + "\n")


if __name__ == "__main__":
    main(*(map(int, sys.argv[1:3]) if len(sys.argv) > 2 else (YEARS, REAL)))
