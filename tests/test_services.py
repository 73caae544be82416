"""Services over D-Bus: what the manager says, and what is left when it breaks off."""

import json
import os
import time

from dunmist.computer.service_manager import Unanswered, read_logins, read_units
from tests.bus_stand_in import StandIn
from tests.program import InFolder, run


class Manager(InFolder):
    def serve(self, **how):
        path = self.folder / "bus"
        bus = StandIn(path, **how)
        bus.start()
        self.bus = bus
        self.addCleanup(bus.close)
        return f"unix:path={path}"

    def test_units_with_their_state(self):
        found = {one.name: one for one in read_units(self.serve(), with_timers=True)}
        loaded = {"tern.service", "auk.service", "plover.service", "night.timer", "gannet.service"}
        self.assertEqual(loaded, set(found))
        tern, auk = found["tern.service"], found["auk.service"]
        self.assertEqual(("active", "running", 3), (tern.active, tern.sub, tern.restarts))
        self.assertEqual(("activating", "auto-restart", 41, "signal", None), (
            auk.active, auk.sub, auk.restarts, auk.result, auk.since_s))  # fmt: skip
        self.assertEqual(("tern.service", None, 1_900_000_100.0), (
            found["night.timer"].triggers, found["night.timer"].next_run_s,
            found["night.timer"].last_run_s))  # fmt: skip

    def test_it_is_asked_little_and_no_longer_than_it_answers_quickly(self):
        address = self.serve(slow_s=0.4)
        began_s = time.monotonic()
        found = {one.name: one for one in read_units(address, with_timers=True)}
        # one slow answer is enough to know
        self.assertLess(time.monotonic() - began_s, 1.2)
        self.assertEqual("deactivating", found["plover.service"].active)
        asked = [method for method, _ in self.bus.calls]
        self.assertEqual(1, asked.count("ListUnitsByPatterns"))
        self.assertEqual(1, asked.count("Get") + asked.count("GetAll"))

    def test_people_but_no_greeter(self):
        (one,) = read_logins(self.serve())
        self.assertEqual(("isbister", ":0", True, 1.9e9, 900, True), (
            one.user, one.terminal, one.graphical, one.since_s, one.pid, one.active))  # fmt: skip

    def test_a_manager_that_breaks_off_is_an_answer_too(self):
        with self.assertRaises(Unanswered):
            read_units(self.serve(answers=1), with_timers=True)
        # what it said before counts
        (self.folder / "bus").unlink()
        found = {one.name: one for one in read_units(self.serve(answers=3), with_timers=True)}
        self.assertEqual(("activating", None), (
            found["auk.service"].active, found["auk.service"].result))  # fmt: skip

    def test_a_capture_asks_it_and_the_view_shows_it(self):
        environment = {**os.environ, "DBUS_SYSTEM_BUS_ADDRESS": self.serve()}
        run("capture", "-o", "x.gz", "--for", "0.4s", "--every", "0.2s", folder=self.folder,
            environment=environment)  # fmt: skip
        shown = run("view", "services", "x.gz", "--json", folder=self.folder).stdout
        rows = {row["unit"]: row for row in json.loads(shown)["services"]}
        # one that waits to be started again is restarting, not stuck half-way
        stuck_rows = [unit for unit, row in rows.items() if row["stuck"]]
        self.assertEqual(["gannet.service", "plover.service"], sorted(stuck_rows))
        self.assertTrue(rows["auk.service"]["restarting"])
        self.assertEqual(3, rows["tern.service"]["restarts"])
        stuck = [one["subject"] for one in self.triage(self.folder / "x.gz")["findings"]
                 if one["kind"] == "service-stuck"]  # fmt: skip
        self.assertEqual(["gannet.service", "plover.service"], sorted(stuck))
