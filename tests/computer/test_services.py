"""Services over D-Bus: what the manager says, and what is left when it breaks off."""

import json
import os
import time
from contextlib import contextmanager
from pathlib import Path
from unittest import mock

from dunmist.computer.boot import read_boot
from dunmist.computer.root import Root
from dunmist.computer.service_manager import MANAGER, Unanswered, read_logins, read_units
from tests.bus_stand_in import UNITS, StandIn
from tests.program import InFolder, run


class OnBus(InFolder):
    def serve(self, **how):
        path = self.folder / "bus"
        bus = StandIn(path, **how)
        bus.start()
        self.bus = bus
        self.addCleanup(bus.close)
        return f"unix:path={path}"


class Manager(OnBus):
    def test_units_with_their_state(self):
        result = {
            read_unit.name: read_unit for read_unit in read_units(self.serve(), with_timers=True)
        }
        loaded = {"tern.service", "auk.service", "plover.service", "night.timer", "gannet.service"}
        self.assertEqual(loaded, set(result))
        tern, auk = result["tern.service"], result["auk.service"]
        self.assertEqual(("active", "running", 3), (tern.active, tern.sub, tern.restarts))
        self.assertEqual(
            ("activating", "auto-restart", 41, "signal", None),
            (auk.active, auk.sub, auk.restarts, auk.result, auk.since_s),
        )
        self.assertEqual(
            ("tern.service", None, 1_900_000_100.0),
            (
                result["night.timer"].triggers,
                result["night.timer"].next_run_s,
                result["night.timer"].last_run_s,
            ),
        )

    def test_it_is_asked_little_and_no_longer_than_it_answers_quickly(self):
        address = self.serve(slow_s=0.4)
        began_s = time.monotonic()
        result = {read_unit.name: read_unit for read_unit in read_units(address, with_timers=True)}
        # one slow answer is enough to know
        self.assertLess(time.monotonic() - began_s, 10.0)
        self.assertEqual("deactivating", result["plover.service"].active)
        asked = [method for method, _ in self.bus.calls]
        self.assertEqual(1, asked.count("ListUnitsByPatterns"))
        self.assertEqual(1, asked.count("Get") + asked.count("GetAll"))

    def test_people_but_no_greeter(self):
        (item,) = read_logins(self.serve())
        self.assertEqual(
            ("isbister", ":0", True, 1.9e9, 900, True),
            (item.user, item.terminal, item.graphical, item.since_s, item.pid, item.active),
        )

    def test_a_manager_that_breaks_off_is_an_answer_too(self):
        with self.assertRaises(Unanswered):
            read_units(self.serve(answers=1), with_timers=True)
        # what it said before counts
        (self.folder / "bus").unlink()
        result = {
            read_unit.name: read_unit
            for read_unit in read_units(self.serve(answers=3), with_timers=True)
        }
        self.assertEqual(
            ("activating", None), (result["auk.service"].active, result["auk.service"].result)
        )

    def test_a_capture_asks_it_and_the_view_shows_it(self):
        environment = {**os.environ, "DBUS_SYSTEM_BUS_ADDRESS": self.serve()}
        run(
            "capture",
            "-o",
            "x.gz",
            "--for",
            "0.4s",
            "--every",
            "0.2s",
            folder=self.folder,
            environment=environment,
        )
        shown = run("view", "services", "x.gz", "--json", folder=self.folder).stdout
        rows = {row["unit"]: row for row in json.loads(shown)["services"]}
        # one that waits to be started again is restarting, not stuck half-way
        stuck_rows = [unit for unit, row in rows.items() if row["stuck"]]
        self.assertEqual(["gannet.service", "plover.service"], sorted(stuck_rows))
        self.assertTrue(rows["auk.service"]["restarting"])
        self.assertEqual(3, rows["tern.service"]["restarts"])
        stuck = [
            item["subject"]
            for item in self.triage(self.folder / "x.gz")["findings"]
            if item["kind"] == "service-stuck"
        ]
        self.assertEqual(["gannet.service", "plover.service"], sorted(stuck))


# of each unit when it began, when it was ready, and what it came after
STARTED = {
    "desk.target": (60.0, 60.0, ["plate.service", "tern.service", "later.service"]),
    "plate.service": (55.0, 59.95, ["unpack.service", "tern.service"]),
    # did its work and ended
    "unpack.service": (41.0, 49.0, ["srv.mount"]),
    "srv.mount": (10.0, 40.95, ["net.target", "gone.service"]),
    "net.target": (9.0, 9.95, []),
    "tern.service": (11.0, 12.0, []),
    "side.service": (12.0, 50.0, []),
    # was started again after the start
    "later.service": (90.0, 95.0, []),
}
ENDED = {"unpack.service"}


class Started(OnBus):
    """How a start went: its phases always, single units only where it took long."""

    def began(self, services_s=55.0, **how):
        address = self.serve(**how)
        stamps_s = {
            "Firmware": 9.0,
            "Loader": 3.0,
            "InitRD": 2.0,
            "Userspace": 5.0,
            "Finish": 5.0 + services_s,
        }
        us = {f"{name}TimestampMonotonic": ("t", int(s * 1e6)) for name, s in stamps_s.items()}
        self.bus.properties[MANAGER[1], "Manager"] = us
        known = {row[0]: row[6] for row in UNITS}
        for name, (began_s, ready_s, after) in STARTED.items():
            if name not in known:
                path = f"/b/{name.partition('.')[0]}_{name.rpartition('.')[2]}"
                self.bus.more.append((name, name, "loaded", "active", "x", "", path, 0, "", "/"))
                known[name] = path
            active_s, ended_s = (0.0, ready_s) if name in ENDED else (ready_s, 0.0)
            self.bus.properties.setdefault((known[name], "Unit"), {}).update(
                {
                    "InactiveExitTimestampMonotonic": ("t", int(began_s * 1e6)),
                    "ActiveEnterTimestampMonotonic": ("t", int(active_s * 1e6)),
                    "InactiveEnterTimestampMonotonic": ("t", int(ended_s * 1e6)),
                    "After": ("as", after),
                }
            )
        with mock.patch.dict(os.environ, {"DBUS_SYSTEM_BUS_ADDRESS": address}):
            root = Root(Path("/"))
            self.addCleanup(root.close)
            result = read_boot(root)
        self.unread = {spot.subject for spot in root.unread}
        return result

    @contextmanager
    def patience(self):
        """Wait for answers, however busy the computer is that this runs on."""
        room = "dunmist.computer"
        with (
            mock.patch(f"{room}.service_manager.SLOW_ANSWER_S", 30.0),
            mock.patch(f"{room}.boot.UNITS_PATIENCE_S", 60.0),
        ):
            yield

    def test_phases_and_the_chain_that_the_last_waited_for(self):
        with self.patience():
            result = self.began()
        phases = (result.firmware_s, result.loader_s, result.kernel_s, result.initrd_s)
        self.assertEqual((6.0, 3.0, 2.0, 3.0, 55.0), (*phases, result.services_s))
        self.assertEqual(69.0, result.whole_s)
        self.assertEqual(
            ["desk.target", "plate.service", "unpack.service", "srv.mount", "net.target"],
            [unit.name for unit in result.chain],
        )
        self.assertAlmostEqual(30.95, result.chain[3].took_s)
        # nothing that is known began when it could have
        (gap,) = result.gaps
        self.assertEqual(
            ("unpack.service", "plate.service", 49.0, 6.0),
            (gap.after, gap.before, gap.began_s, gap.took_s),
        )
        # who took long beside the chain is told too, the longest first
        self.assertEqual(
            ["side.service", "unpack.service", "plate.service", "tern.service"],
            [unit.name for unit in result.slowest],
        )
        self.assertFalse(result.is_cut)

    def test_a_chain_that_is_cut_says_so(self):
        with self.patience():
            result = self.began(answers=20)
        self.assertTrue(result.is_cut)
        self.assertEqual("desk.target", result.chain[0].name)
        self.assertLess(len(result.chain), 5)

    def test_of_a_quick_start_no_unit_is_asked_for(self):
        result = self.began(services_s=8.0)
        self.assertEqual((8.0, [], []), (result.services_s, result.chain, result.slowest))
        asked = [method for method, _ in self.bus.calls]
        self.assertNotIn("ListUnitsByPatterns", asked)
        self.assertLessEqual(asked.count("Get"), 7)

    def test_slow_answers_end_the_questions_and_what_was_told_stays(self):
        began_s = time.monotonic()
        result = self.began(slow_s=0.4)
        self.assertLess(time.monotonic() - began_s, 10.0)
        self.assertTrue(result is None or result.chain == [])

    def test_of_a_manager_that_breaks_off_what_it_said_before_counts(self):
        result = self.began(answers=3)
        self.assertEqual(
            (6.0, 3.0, None, None),
            (result.firmware_s, result.loader_s, result.services_s, result.whole_s),
        )

    def test_one_that_says_nothing_is_a_blind_spot(self):
        self.assertIsNone(self.began(answers=0))
        self.assertIn("the start of the computer", self.unread)
