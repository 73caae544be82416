"""All computers of the Skerrow Bird Observatory: sixty of them, some with a bad update.

What is wrong with the update is only what its program does; no room that judges knows of it.
"""

from collections.abc import Iterator
from typing import NamedTuple

import msgspec

from dunmist.simulation.scenario import Scenario, load_scenario

COMPUTERS, SITES = 60, ("cliff", "harbour", "tower")
PROGRAM, GOOD, BAD = "nestcam-index", "3.1-2", "3.2-1"
# of each site the first so many have the update
UPDATED = {"cliff": 12, "harbour": 5, "tower": 1}
# single computers that are ill for reasons of their own
OTHERS = {7: "worn-spinner", 23: "narrow-burrow", 41: "full-cupboard"}


class Desk(NamedTuple):
    """One computer of the observatory."""

    site: str
    scenario: Scenario
    seed: int


def desks() -> Iterator[Desk]:
    """Yield all of them."""
    usual = load_scenario("ringing-office")
    counts = dict.fromkeys(SITES, 0)
    for number in range(COMPUTERS):
        site = SITES[number % len(SITES)]
        updated = counts[site] < UPDATED[site]
        counts[site] += 1
        scenario = load_scenario(OTHERS[number]) if number in OTHERS else _with(usual, updated)
        machine = msgspec.structs.replace(scenario.machine, host=f"skerrow-{site}-{number:02}")
        yield Desk(site, msgspec.structs.replace(scenario, machine=machine), 7 + number)


def _with(scenario: Scenario, updated: bool) -> Scenario:
    """Return a computer with the update, or with the version of before, which rests."""
    programs = [
        spec
        if spec.name != PROGRAM
        else msgspec.structs.replace(spec, version=BAD)
        if updated
        else msgspec.structs.replace(spec, version=GOOD, demand_cores=0.02, peers=0)
        for spec in scenario.programs
    ]
    return msgspec.structs.replace(scenario, programs=programs)
