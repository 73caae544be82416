"""What changed lately: logs of package managers, times of files, and what is made of both."""

import gzip
import hashlib
import json
import os
import time
import unittest
from datetime import UTC, datetime, timedelta, timezone

import msgspec
from msgspec import structs

from dunmist.captures.sharing import StandIns
from dunmist.computer import Change, Root, package_log, read_changes
from dunmist.sampling import Survey
from dunmist.simulation import load_scenario, scenario_names
from dunmist.simulation.scenario import ChangeSpec
from tests.program import DATA, InFolder, capture_model, run

HOUR_AHEAD = timezone(timedelta(hours=1))
NOON = datetime(2031, 5, 14, 12, 0, tzinfo=HOUR_AHEAD).timestamp()
DAY_S = 86_400.0
# when the database of the tests was made
RPM_RAN_S = 1_795_565_242.0
DPKG = b"""2031-05-14 11:00:00 startup archives unpack
2031-05-14 11:00:01 upgrade gull-map:amd64 1:2.0-1 1:2.1-1
2031-05-14 11:00:02 status half-configured gull-map:amd64 1:2.0-1
2031-05-14 11:00:03 install egg-count:all <none> 0.9
2031-05-14 11:00:04 remove lamp:amd64 3.1 <none>
2031-13-45 11:00:05 install never:amd64 <none> 1
2031-05-14 11:00:06 upgrade half:am"""
APT = b"""Start-Date: 2031-05-14  11:00:00
Commandline: apt upgrade
Requested-By: isbister (1004)
Upgrade: gull-map:amd64 (1:2.0-1, 1:2.1-1)
End-Date: 2031-05-14  11:00:02

Start-Date: 2031-05-14  11:00:03
Commandline: /usr/bin/unattended-upgrade
End-Date: 2031-05-14  11:00:09

Start-Date: 2031-05-14  11:30:00
"""
PACMAN = b"""[2031-05-14T11:00:00+0100] [PACMAN] synchronizing package lists
[2031-05-14T11:00:01+0100] [ALPM] upgraded gull-map (2.0-1 -> 2.1-1)
[2031-05-14T11:00:02+0100] [ALPM] installed egg-count (0.9-1)
[2031-05-14T11:00:03+0100] [ALPM] removed lamp (3.1-1)
[2031-05-14 11:00] [ALPM] upgraded old-form (1-1 -> 2-1)
"""
DNF = b"""2031-05-14T11:00:00+0100 INFO --- logging initialized ---
2031-05-14T11:00:01+0100 SUBDEBUG Upgrade: gull-map-2.1-1.fc47.x86_64
2031-05-14T11:00:02+0100 SUBDEBUG Installed: egg-count-0.9-1.noarch
2031-05-14T11:00:03+0100 SUBDEBUG Upgraded: gull-map-2.0-1.fc47.x86_64
2031-05-14T11:00:04+0100 SUBDEBUG Erase: lamp-3.1-1.x86_64
"""
ZYPP = b"""# 2031-05-14 11:00:00 gull-map installed ok
2031-05-14 11:00:01|install|gull-map|2.1-1.2|x86_64|root@desk|main|abc|
2031-05-14 11:00:02|remove |lamp|3.1-1|x86_64|root@desk|
2031-05-14 11:00:03|radd   |main|http://mirror.invalid/|
"""


class Logs(unittest.TestCase):
    def told(self, parser, data):
        return [
            (change.act, change.package, change.old, change.new)
            for change in parser(data, HOUR_AHEAD)
        ]

    def test_each_manager_is_understood(self):
        three = [
            ("upgraded", "gull-map", "2.0-1", "2.1-1"),
            ("installed", "egg-count", None, "0.9-1"),
            ("removed", "lamp", "3.1-1", None),
        ]
        for parser, data, expected in (
            (
                package_log.parse_dpkg_log,
                DPKG,
                [
                    ("upgraded", "gull-map", "1:2.0-1", "1:2.1-1"),
                    ("installed", "egg-count", None, "0.9"),
                    ("removed", "lamp", "3.1", None),
                ],
            ),
            (
                package_log.parse_pacman_log,
                PACMAN,
                [*three, ("upgraded", "old-form", "1-1", "2-1")],
            ),
            (
                package_log.parse_zypp_history,
                ZYPP,
                [("installed", "gull-map", None, "2.1-1.2"), ("removed", "lamp", "3.1-1", None)],
            ),
        ):
            with self.subTest(parser.__name__):
                self.assertEqual(expected, self.told(parser, data))
        told = self.told(package_log.parse_dnf_log, DNF)
        self.assertEqual(
            {
                ("upgraded", "gull-map", "2.0-1.fc47", "2.1-1.fc47"),
                ("installed", "egg-count", None, "0.9-1"),
                ("removed", "lamp", "3.1-1", None),
            },
            set(told),
        )

    def test_a_moment_is_in_the_zone_of_the_patient_or_its_own(self):
        first = next(iter(package_log.parse_dpkg_log(DPKG, HOUR_AHEAD)))
        self.assertEqual(NOON - 3599, first.at_s)
        same = next(iter(package_log.parse_pacman_log(PACMAN, UTC)))
        self.assertEqual(first.at_s, same.at_s)

    def test_no_form_takes_long_to_be_refused(self):
        forms = (
            b"Start-Date: 2031-05-14  11:00:00\n",
            b"2031-05-14 11:00:01 upgrade " + b"a" * 5000 + b"\n",
            b"2031-05-14T11:00:01+0100 SUBDEBUG Upgrade: " + b"a-" * 5000 + b"\n",
            b"[2031-05-14T11:00:00+0100] [ALPM] upgraded " + b"a" * 5000 + b" (\n",
            b"2031-05-14 11:00:01|install|" + b"|" * 5000 + b"\n",
        )
        data = b"".join(form * 40 for form in forms) + forms[0] * 20_000
        began_s = time.process_time()
        for _, parser in package_log.LOGS:
            list(parser(data, HOUR_AHEAD))
        list(package_log.parse_apt_history(data, HOUR_AHEAD))
        self.assertLess(time.process_time() - began_s, 5.0)

    def test_who_asked_for_it(self):
        orders = list(package_log.parse_apt_history(APT, HOUR_AHEAD))
        self.assertEqual(["isbister", "unattended-upgrade"], [by for _, _, by in orders])


class Files(InFolder):
    def read(self, files, now_s=NOON):
        """Return by path the changes of a computer that consists of a few files."""
        for name, (ago_s, content) in files.items():
            path = self.folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content)
            os.utime(path, (now_s - ago_s, now_s - ago_s))
        self.root = Root(self.folder)
        self.addCleanup(self.root.close)
        changes = read_changes(self.root, now_s, HOUR_AHEAD)
        self.assertEqual(sorted(changes, key=lambda change: -change.at_s), changes)
        return {change.what: change for change in changes}

    def test_who_left_a_file_as_it_is(self):
        digest = hashlib.md5(b"as packaged\n", usedforsecurity=False).hexdigest()
        status = f"Package: x\nConffiles:\n /etc/cron.d/a {digest}\n /etc/cron.d/b {digest}\n"
        found = self.read(
            {
                "var/lib/dpkg/status": (0, status.encode()),
                "etc/cron.d/a": (DAY_S, b"as packaged\n"),
                "etc/cron.d/b": (2 * DAY_S, b"by hand\n"),
                "etc/cron.d/c": (3 * DAY_S, b"new\n"),
                "etc/fstab": (100 * DAY_S, b""),
                "etc/sysctl.d/README": (DAY_S, b""),
                "etc/systemd/system/lamp.timer": (4 * DAY_S, b""),
            }
        )
        self.assertEqual(
            {
                "/etc/cron.d/a": ("job", "package"),
                "/etc/cron.d/b": ("job", "hand"),
                "/etc/cron.d/c": ("job", "nobody's"),
                "/etc/systemd/system/lamp.timer": ("unit", "nobody's"),
            },
            {what: (change.kind, change.left_by) for what, change in found.items()},
        )

    def test_what_has_not_come_yet_is_left_out_and_said(self):
        log = DPKG.replace(b"2031-05-14", b"2033-05-14")
        self.assertEqual({}, self.read({"var/log/dpkg.log": (0, log)}))
        subjects = {(spot.subject, spot.reason) for spot in self.root.unread}
        self.assertIn(("what changed lately", "garbled"), subjects)

    def test_what_is_a_few_hours_ahead_is_said_too(self):
        found = self.read({"var/log/dpkg.log": (0, DPKG), "etc/fstab": (-60, b"")}, NOON - 7200)
        self.assertEqual({}, found)
        things = set().union(*self.root.unread.values())
        self.assertLessEqual({"/var/log/dpkg.log", "/etc/fstab"}, things)

    def test_logs_that_were_put_aside_count(self):
        older = DPKG.replace(b"2031-05-14", b"2031-03-20").replace(b"gull-map", b"tern-map")
        found = self.read(
            {
                "var/log/dpkg.log": (0, DPKG),
                "var/log/dpkg.log.2.gz": (0, gzip.compress(older)),
                "var/log/dpkg.log.3.gz": (0, b"not packed"),
                "var/log/apt/history.log.1.gz": (0, gzip.compress(APT)),
            }
        )
        self.assertEqual("isbister", found["gull-map"].by)
        self.assertIn("tern-map", found)
        reasons = {(spot.subject, spot.reason) for spot in self.root.unread}
        self.assertEqual({("changes of packages", "garbled")}, reasons)

    def test_nothing_unpacks_without_bounds(self):
        began_s = time.process_time()
        bomb = gzip.compress(bytes(64 << 20))
        self.assertEqual({}, self.read({"var/log/dpkg.log.1.gz": (0, bomb)}))
        self.assertLess(time.process_time() - began_s, 5.0)

    def test_a_clock_that_was_wrong_for_a_week_is_said(self):
        line = b"2031-05-%02d 11:00:0%d upgrade egg-%d:amd64 1 2\n"
        log = b"".join(line % parts for parts in ((11, 0, 0), (14, 1, 1), (7, 2, 2), (14, 3, 3)))
        found = self.read({"var/log/dpkg.log": (0, log)})
        step = found["/var/log/dpkg.log"]
        self.assertEqual(("clock", 7 * DAY_S - 1), (step.kind, step.back_s))
        self.assertEqual(NOON - 7 * DAY_S - 3598, step.at_s)
        # an hour in autumn is the zone's
        again = log[: len(log) // 4] + line.replace(b"11:", b"10:") % (11, 0, 9)
        self.assertNotIn("/var/log/dpkg.log", self.read({"var/log/dpkg.log": (0, again)}))

    def test_the_database_of_rpm_tells_what_no_log_does(self):
        database = gzip.decompress((DATA / "rpmdb.sqlite.gz").read_bytes())
        place = "usr/lib/sysimage/rpm/rpmdb.sqlite"
        (package,) = self.read({place: (0, database)}, RPM_RAN_S + 3600.0).values()
        self.assertEqual(
            ("installed", "tern-tools", None, "3.1-1", RPM_RAN_S),
            (package.kind, package.what, package.old, package.new, package.at_s),
        )
        self.assertEqual({}, self.read({}, RPM_RAN_S + 91 * DAY_S))
        ran = datetime.fromtimestamp(RPM_RAN_S, HOUR_AHEAD).isoformat(timespec="seconds").encode()
        log = ran + b" SUBDEBUG Upgrade: tern-tools-3.1-1.noarch\n"
        log += ran + b" SUBDEBUG Upgraded: tern-tools-3.0-1.noarch\n"
        found = self.read({"var/log/dnf.rpm.log": (0, log)}, RPM_RAN_S + 3600.0)
        self.assertEqual({"tern-tools": "3.0-1"}, {what: item.old for what, item in found.items()})

    def test_accounts_that_came_and_went_have_names(self):
        found = self.read(
            {
                "etc/passwd-": (0, b"root:x:0:0::/:\nskua:x:1:1::/:\n"),
                "etc/passwd": (DAY_S, b"root:x:0:0::/:\nauk:x:2:2::/:\ntern:x:3:3::/:\n"),
                "etc/group": (DAY_S, b"root:x:0:\n"),
            }
        )
        self.assertEqual(("skua", "auk tern"), (found["/etc/passwd"].old, found["/etc/passwd"].new))
        self.assertEqual((None, None), (found["/etc/group"].old, found["/etc/group"].new))

    def test_firmware_is_no_older_than_its_release(self):
        place = "sys/class/dmi/id"
        found = self.read(
            {f"{place}/bios_date": (0, b"05/02/2031\n"), f"{place}/bios_version": (0, b"1.19\n")}
        )
        self.assertEqual("firmware", found["1.19"].kind)
        self.assertEqual(12, (NOON - found["1.19"].at_s) // DAY_S)
        self.assertEqual({}, self.read({f"{place}/bios_date": (0, b"31/31/2031\n")}))

    def test_a_hundred_thousand_lines_are_bounded(self):
        line = b"2031-05-14 11:00:01 upgrade gull-map%d:amd64 1 2\n"
        log = b"".join(line % number for number in range(100_000))
        found = self.read({"var/log/dpkg.log": (0, log)})
        self.assertEqual(400, len(found))


class Elsewhere(InFolder):
    def test_a_shell_brings_the_same_changes_of_packages_and_settings(self):
        told = []
        for more in ([], ["--via", "sh"]):
            path = self.folder / f"{len(told)}.gz"
            timed = ["--for", "1s", "--every", "0.5s"]
            run("capture", *more, "-o", path, *timed, folder=self.folder)
            shown = run("view", "changes", path, "--json", "--days", "90", folder=self.folder)
            # firmware and programs are not looked at there; other tests make accounts meanwhile
            told.append(
                {
                    (row["kind"], row["what"], round(row["at_s"]))
                    for row in json.loads(shown.stdout)["changes"]
                    if row["kind"] not in ("start", "device", "firmware", "program", "accounts")
                }
            )
        if not told[0]:
            self.skipTest("nothing was changed here lately")
        self.assertEqual(*told)

    def test_a_shared_copy_names_none_of_the_accounts(self):
        copy = StandIns()
        changes = [
            Change(0.0, "accounts", "/etc/passwd", "skua", "auk"),
            Change(0.0, "upgraded", "gull-map", "1", "2", "whimbrel"),
            Change(0.0, "upgraded", "lamp", "1", "2", "apt-get"),
        ]
        survey = Survey(tick=0, is_last=True, changes=changes)
        copy.learn(survey)
        shared = msgspec.json.encode(copy.line(survey)).decode()
        self.assertNotRegex(shared, r"skua|\bauk|whimbrel")
        self.assertIn("apt-get", shared)


class Patients(InFolder):
    def triaged(self, scenario):
        path = self.folder / "changed.jsonl.gz"
        capture_model(scenario, path, 30.0)
        return path, self.triage(path)

    def test_each_with_a_change_is_told(self):
        told = 0
        for name in scenario_names():
            truth = load_scenario(name).truth
            if truth.changed is None:
                continue
            told += 1
            _, triage = self.triaged(load_scenario(name))
            texts = [fact["text"] for fact in triage["culprits"][0]["evidence"]]
            with self.subTest(name):
                changed = [text for text in texts if "before the end of the capture" in text]
                self.assertEqual(1, len(changed), texts)
                self.assertIn(truth.changed, changed[0])
        self.assertGreaterEqual(told, 3)

    def test_the_way_back_is_a_step_with_its_undo(self):
        _, triage = self.triaged(load_scenario("waking-index"))
        steps = {step["action"]: step for step in triage["culprits"][0]["steps"]}
        back = steps["go-back-version"]
        self.assertEqual("apt-get install nestcam-index=3.0-7", back["command"])
        self.assertEqual("apt-get install nestcam-index=3.1-2", back["undo"])
        self.assertEqual("disruptive", back["risk"])

    def test_an_update_that_the_program_does_not_run_yet_is_innocent(self):
        _, triage = self.triaged(load_scenario("lone-thread"))
        culprit = triage["culprits"][0]
        texts = " ".join(fact["text"] for fact in culprit["evidence"])
        self.assertIn("still runs the old version", texts)
        self.assertNotIn("go-back-version", {step["action"] for step in culprit["steps"]})

    def test_what_is_another_programs_concerns_nobody(self):
        scenario = load_scenario("lone-thread")
        lately = [
            ChangeSpec(600.0, "upgraded", "gull-map", "2.0-1", "2.1-1"),
            ChangeSpec(600.0, "file", "/etc/systemd/system/lamp.timer", text="[Timer]\n"),
        ]
        path, triage = self.triaged(structs.replace(scenario, lately=lately))
        texts = " ".join(fact["text"] for fact in triage["culprits"][0]["evidence"])
        self.assertNotIn("before the end of the capture", texts)
        shown = json.loads(run("view", "changes", path, "--json", folder=self.folder).stdout)
        changes = [row for row in shown["changes"] if row["kind"] != "start"]
        self.assertEqual(["upgraded", "unit"], [row["kind"] for row in changes])
        self.assertEqual([None, None], [row["concerns"] for row in changes])

    def test_nothing_of_a_log_gets_into_a_command(self):
        scenario = load_scenario("waking-index")
        for what, old in (("nestcam-index", "$(reboot)"), ("nestcam-index", "-o=x")):
            lately = [ChangeSpec(7200.0, "upgraded", what, old, "3.1-2")]
            _, triage = self.triaged(structs.replace(scenario, lately=lately))
            actions = {step["action"] for step in triage["culprits"][0]["steps"]}
            with self.subTest(old):
                self.assertNotIn("go-back-version", actions)

    def test_a_comparison_has_what_was_changed_in_between(self):
        scenario = load_scenario("week-after-update")
        before, after = self.folder / "before.gz", self.folder / "after.gz"
        capture_model(scenario, before, 12.0)
        later = structs.replace(
            scenario,
            lately=[
                ChangeSpec(600.0, "upgraded", "lantern-index", "3.1-2", "3.2-1"),
                ChangeSpec(90_000.0, "installed", "gull-map", None, "2.1-1"),
            ],
            machine=structs.replace(scenario.machine, started="2031-05-21T11:05:00+01:00"),
        )
        capture_model(later, after, 12.0)
        shown = json.loads(run("compare", before, after, "--json", folder=self.folder).stdout)
        self.assertEqual(["lantern-index"], [change["subject"] for change in shown["changed"]])
        text = run("compare", before, after, folder=self.folder).stdout
        self.assertIn("package lantern-index was upgraded from 3.1-2 to 3.2-1", text)

    def test_the_view_is_limited_to_days(self):
        path, _ = self.triaged(load_scenario("week-after-update"))
        shown = json.loads(run("view", "changes", path, "--json", folder=self.folder).stdout)
        self.assertEqual(
            {"lantern-index", "mail-lantern", "lamp-printing"},
            {row["what"] for row in shown["changes"] if row["kind"] != "start"},
        )
        self.assertEqual({"isbister"}, {row["by"] for row in shown["changes"] if row["old"]})
        starts = [row["what"] for row in shown["changes"] if row["kind"] == "start"]
        self.assertIn("the computer, after an orderly end", starts)
        few = run("view", "changes", path, "--json", "--days", "3", folder=self.folder).stdout
        self.assertEqual({"start"}, {row["kind"] for row in json.loads(few)["changes"]})


if __name__ == "__main__":
    unittest.main()
