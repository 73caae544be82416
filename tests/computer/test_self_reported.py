"""What drives, the start and missing drivers say of a computer, read from their own layouts."""

import gzip
import json
import os
import struct
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

from dunmist.computer.boot import parse_boot
from dunmist.computer.crashes import Crash, read_crashes
from dunmist.computer.disks import Disk
from dunmist.computer.drive_health import AskedDrives, may_be_asked, parse_health
from dunmist.computer.drive_probe import NVME_TIMEOUT_MS, TIMEOUT_MS, abilities, ask_ata, registers
from dunmist.computer.known_updates import KnownUpdate, read_known_updates, version_key
from dunmist.computer.packages import Package
from dunmist.computer.parsing import ParseError
from dunmist.computer.root import Root
from dunmist.computer.sensor_drivers import read_missing_drivers
from dunmist.computer.sensors import Sensor
from dunmist.simulation import load_scenario
from tests.program import InFolder, capture_model


def attributes(*rows):
    """A page of attributes of ATA: number, value, raw."""
    page = bytearray(512)
    for index, (number, value, raw) in enumerate(rows):
        start = 2 + 12 * index
        page[start : start + 11] = struct.pack("<BHBB", number, 3, value, value) + raw.to_bytes(
            6, "little"
        )
    return page.hex()


def thresholds(*rows):
    """A page of thresholds of ATA: number, and the least value that is allowed."""
    page = bytearray(512)
    for index, row in enumerate(rows):
        page[2 + 12 * index : 4 + 12 * index] = bytes(row)
    return page.hex()


class Drives(unittest.TestCase):
    def test_an_nvme_drive_that_warns(self):
        page = bytearray(512)
        struct.pack_into("<BHBBB", page, 0, 0b1101, 350, 4, 10, 112)
        page[128:132], page[160:164] = struct.pack("<I", 9000), struct.pack("<I", 17)
        struct.pack_into("<II", page, 192, 30, 5)
        result = parse_health("nvme0n1", f"nvme {page.hex()}\n".encode())
        self.assertEqual(
            ["spare is used up", "reliability is degraded", "read only now"], result.warnings
        )
        self.assertEqual(
            (77, 4, 10, 112, 17, 9000, 35),
            (
                result.celsius,
                result.spare_percent,
                result.spare_least_percent,
                result.used_percent,
                result.media_errors,
                result.hours,
                result.hot_minutes,
            ),
        )

    def test_an_ata_drive_that_fails_by_its_own_thresholds(self):
        data = attributes(
            (5, 20, 800),
            (9, 90, 0x1234_0000_2328),
            (194, 60, 0x2D_0012_0029),
            (197, 100, 8),
            (3, 40, 0),
        )
        least = thresholds((5, 36), (9, 0), (3, 0))
        statistics = bytearray(8 * 512)
        statistics[4 * 512 + 2] = 4
        statistics[4 * 512 + 8 : 4 * 512 + 16] = struct.pack("<Q", 0xC0 << 56 | 21)
        statistics[7 * 512 + 2] = 7  # supported, and not valid
        statistics[7 * 512 + 8 : 7 * 512 + 16] = struct.pack("<Q", 0x80 << 56 | 99)
        text = f"ata 1\ndata {data}\nthresholds {least}\nstatistics {statistics.hex()}\n"
        result = parse_health("sda", text.encode())
        self.assertTrue(result.fails)
        self.assertEqual([5], result.below_threshold)
        self.assertEqual(
            (800, 9000, 41, 8, 21, None),
            (
                result.reallocated,
                result.hours,
                result.celsius,
                result.pending,
                result.uncorrectable,
                result.used_percent,
            ),
        )

    def test_one_that_sleeps_is_told_of_and_half_a_page_is_refused(self):
        self.assertTrue(parse_health("sda", b"asleep 1\n").asleep)
        for text in (b"", b"nvme 00ff\n", b"ata 0\ndata 0011\n", b"data 00\n"):
            with self.subTest(text), self.assertRaises(ParseError):
                parse_health("sda", text)

    def test_sticks_and_mapped_disks_are_not_asked(self):
        with TemporaryDirectory() as folder:
            root = Root(Path(folder))
            (Path(folder) / "health").mkdir()
            for name in ("sda", "dm-0", "sdb"):
                (Path(folder) / "health" / name).write_text("asleep 1\n")
            disks = [Disk("sda"), Disk("dm-0"), Disk("sdb", removable=True)]
            self.assertEqual(["sda"], [item.disk for item in AskedDrives(root, disks).health()])
            root.close()


class Start(unittest.TestCase):
    def test_phases_count_backwards_to_the_power(self):
        result = parse_boot(
            b"FirmwareTimestampMonotonic=9500000\nLoaderTimestampMonotonic=2500000\n"
            b"InitRDTimestampMonotonic=1500000\nUserspaceTimestampMonotonic=4000000"
            b"\nFinishTimestampMonotonic=24000000\nchain srv.mount 5000000 20000000"
            b"\n"
        )
        self.assertEqual(
            (7.0, 2.5, 1.5, 2.5, 20.0, 33.5),
            (
                result.firmware_s,
                result.loader_s,
                result.kernel_s,
                result.initrd_s,
                result.services_s,
                result.whole_s,
            ),
        )
        self.assertEqual([15.0], [item.took_s for item in result.chain])

    def test_a_start_that_goes_on_has_no_whole(self):
        result = parse_boot(b"UserspaceTimestampMonotonic=4000000\nFinishTimestampMonotonic=0\n")
        self.assertEqual((4.0, None, None), (result.kernel_s, result.services_s, result.whole_s))
        with self.assertRaises(ParseError):
            parse_boot(b"all is well\n")


class Drivers(unittest.TestCase):
    def missing(self, *, chips=(), installed="", loaded=(), aliases="", virtual=False):
        with TemporaryDirectory() as name:
            folder = Path(name)
            files = {
                "proc/cpuinfo": "vendor_id\t: AuthenticAMD\n",
                "proc/sys/kernel/osrelease": "6.1.0",
                "lib/modules/6.1.0/modules.dep": installed,
                "lib/modules/6.1.0/modules.alias": aliases,
                "sys/class/dmi/id/modalias": "dmi:bvnSkerrow:svnSkerrow:pnGuillemot:",
            } | {f"sys/module/{item}/refcnt": "1" for item in loaded}
            for path, text in files.items():
                (folder / path).parent.mkdir(parents=True, exist_ok=True)
                (folder / path).write_text(text)
            root = Root(folder)
            sensors = [Sensor(chip, "x", "temp1", "temperature", "p") for chip in chips]
            result = read_missing_drivers(root, sensors, [Disk("sda")], virtual=virtual)
            root.close()
            return [(item.module, item.of, item.is_installed) for item in result]

    def test_the_processors_own_and_those_that_are_installed_are_named(self):
        dep = "kernel/drivers/hwmon/k10temp.ko.xz:\nkernel/drivers/hwmon/drivetemp.ko:\n"
        self.assertEqual([("k10temp", "processor", False)], self.missing())
        self.assertEqual(
            [("k10temp", "processor", True), ("drivetemp", "drives", True)],
            self.missing(installed=dep),
        )
        self.assertEqual([], self.missing(installed=dep, chips=("k10temp", "drivetemp")))
        self.assertEqual(
            [("drivetemp", "drives", True)], self.missing(installed=dep, loaded=("k10temp",))
        )
        self.assertEqual([], self.missing(installed=dep, virtual=True))

    def test_a_boards_own_by_the_kernels_aliases(self):
        dep = "kernel/drivers/hwmon/skerrow-ec.ko:\nkernel/drivers/char/skerrow-lid.ko:\n"
        aliases = (
            "alias dmi*:svnSkerrow:pnGuillemot:* skerrow-ec\n"
            "alias dmi*:svnSkerrow:* skerrow-lid\nalias dmi*:svnOther:* skerrow_ec\n"
        )
        self.assertIn(("skerrow_ec", "board", True), self.missing(installed=dep, aliases=aliases))
        self.assertNotIn("skerrow_lid", str(self.missing(installed=dep, aliases=aliases)))


class HeatUnseen(InFolder):
    def test_the_driver_is_a_step_where_heat_is_in_question(self):
        path = capture_model(load_scenario("still-fan"), self.folder / "x.jsonl.gz")
        header, *rest = gzip.decompress(path.read_bytes()).splitlines()
        for is_installed in (True, False):
            changed = json.loads(header)
            changed["inventory"]["missing_drivers"] = [
                {"module": "coretemp", "of": "processor", "is_installed": is_installed},
                {"module": "drivetemp", "of": "drives", "is_installed": True},
            ]
            path.write_bytes(gzip.compress(b"\n".join([json.dumps(changed).encode(), *rest])))
            commands = [
                step["command"]
                for finding in self.triage(path)["findings"]
                for step in finding["steps"]
                if step["action"] == "load-sensor-driver"
            ]
            wanted = {"modprobe --all -- coretemp"} if is_installed else set()
            self.assertEqual(wanted, set(commands))


class Asked(unittest.TestCase):
    """None is asked for what it does not say that it has: a refusal stops a drive's work."""

    def identity(self, *words):
        return bytes(164) + struct.pack("<6H", *words) + bytes(336)

    def test_only_what_a_drive_says_that_it_has(self):
        for words, wanted in (
            ((0x0001, 0x4000, 0x4001, 0x0001, 0, 0x4000), (True, True)),
            ((0x0001, 0x4000, 0x4000, 0x0001, 0, 0x4001), (True, True)),
            ((0x0001, 0x4000, 0x4000, 0x0001, 0, 0x4000), (True, False)),
            ((0x0001, 0x4000, 0x4001, 0x0000, 0, 0x4000), (False, True)),  # switched off
            ((0xFFFF, 0xFFFF, 0xFFFF, 0xFFFF, 0xFFFF, 0xFFFF), (False, False)),
        ):
            self.assertEqual(wanted, abilities(self.identity(*words)))

    def sense(self, **changes):
        data = bytearray(32)
        data[0], data[8], data[13], data[17], data[19] = 0x72, 0x09, 0xFF, 0x4F, 0xC2
        for place, value in changes.items():
            data[int(place[1:])] = value
        return bytes(data)

    def test_registers_come_only_as_the_descriptor_that_holds_them(self):
        self.assertEqual((0xFF, 0x4F, 0xC2), registers(self.sense()))
        self.assertEqual((0x01, 0x4F, 0xC2), registers(self.sense(_13=0x01)))
        for change in ({"_0": 0x70}, {"_0": 0}, {"_8": 0x00}):
            with self.subTest(change), self.assertRaises(OSError):
                registers(self.sense(**change))

    def asked(self, replies):
        """What is said of a drive that gives these replies, and what it was asked."""
        asked, said = [], []

        def ata(_descriptor, command, *, features=0, blocks=0, low=0, key=(0, 0)):
            asked.append((command, features, low))
            answer = replies[command, features, low]
            if isinstance(answer, Exception):
                raise answer
            return answer

        with mock.patch.multiple(
            "dunmist.computer.drive_probe",
            ata=ata,
            say=lambda word, digits: said.append((word, digits)),
        ):
            try:
                ask_ata(3)
            except OSError:
                said.append(("refused", ""))
        return dict(said), asked

    POWER, IDENTIFY, STATUS = (0xE5, 0, 0), (0xEC, 0, 0), (0xB0, 0xDA, 0)
    DATA, LEAST, LOGS, STATISTICS = (
        (0xB0, 0xD0, 0),
        (0xB0, 0xD1, 0),
        (0xB0, 0xD5, 0),
        (0xB0, 0xD5, 4),
    )

    def replies(self, words, **changes):
        directory = bytearray(512)
        directory[8] = changes.pop("pages", 8)
        return {
            self.POWER: (b"", self.sense()),
            self.IDENTIFY: (self.identity(*words), b""),
            self.STATUS: (b"", self.sense()),
            self.DATA: (b"\1" * 512, b""),
            self.LEAST: (b"\2" * 512, b""),
            self.LOGS: (bytes(directory), b""),
            self.STATISTICS: (b"\3" * 4096, b""),
            **changes,
        }

    def test_a_drive_that_sleeps_is_asked_nothing_more(self):
        for count in (0x00, 0x01):
            replies = {self.POWER: (b"", self.sense(_13=count))}
            self.assertEqual(({"asleep": "1"}, [self.POWER]), self.asked(replies))

    def test_one_without_logs_is_not_asked_for_them(self):
        said, asked = self.asked(self.replies((1, 0x4000, 0x4000, 1, 0, 0x4000)))
        self.assertEqual({"ata", "data", "thresholds"}, set(said))
        self.assertEqual([self.POWER, self.IDENTIFY, self.STATUS, self.DATA, self.LEAST], asked)

    def test_statistics_only_where_the_directory_has_them(self):
        words = (1, 0x4000, 0x4001, 1, 0, 0x4000)
        said, asked = self.asked(self.replies(words))
        self.assertEqual("03" * 4096, said["statistics"])
        said, asked = self.asked(self.replies(words, pages=2))
        self.assertNotIn("statistics", said)
        self.assertNotIn(self.STATISTICS, asked)

    def test_one_whose_self_assessment_is_off_says_nothing(self):
        said, asked = self.asked(self.replies((1, 0x4000, 0x4001, 0, 0, 0x4000)))
        self.assertEqual(({}, [self.POWER, self.IDENTIFY]), (said, asked))

    def test_what_was_said_before_a_refusal_stays(self):
        replies = self.replies((1, 0x4000, 0x4000, 1, 0, 0x4000))
        replies[self.LEAST] = OSError("the drive refused")
        said, _ = self.asked(replies)
        self.assertEqual(("0", "01" * 512, ""), (said["ata"], said["data"], said["refused"]))
        replies[self.STATUS] = (b"", self.sense(_17=0xF4, _19=0x2C))
        self.assertEqual("1", self.asked(replies)[0]["ata"])

    def test_no_limit_of_time_is_shorter_than_the_kernels_own(self):
        # 30 s for a disk (sd(4)), 60 s for what an administrator asks of NVMe
        self.assertGreater(TIMEOUT_MS, 60_000)
        self.assertEqual(0, NVME_TIMEOUT_MS)

    def test_bridges_and_disks_of_other_kinds_are_left_alone(self):
        with TemporaryDirectory() as name:
            for disk, vendor in (("sda", "ATA     "), ("sdb", "Skerrow USB"), ("sdc", None)):
                place = Path(name) / f"sys/block/{disk}/device"
                place.mkdir(parents=True)
                if vendor:
                    (place / "vendor").write_text(f"{vendor}\n")
            root = Root(Path(name))
            asked = [item for item in ("sda", "sdb", "sdc", "nvme0n1") if may_be_asked(root, item)]
            self.assertEqual(["sda", "nvme0n1"], asked)
            root.close()


class Crashes(unittest.TestCase):
    def test_parts_of_one_crash_are_one_wherever_they_were_moved(self):
        head = "Panic#1 Part1\n"
        line = "<0>[ 9.1] Kernel panic - not syncing: "
        panic = f"{head}{line}Attempted to kill init!\n"
        # a program whose file is called like a line of the kernel crashed before
        forged = f"{head}<6>[ 9.0] auk[7]: segfault at 0 in x\n{line}replace the drive\n"
        with TemporaryDirectory() as name:
            for place, at_s, text in (
                ("sys/fs/pstore/dmesg-efi-1", 2000, f"Panic#1 Part2\n{line}forged\n"),
                ("sys/fs/pstore/dmesg-efi-2", 2003, panic),
                ("sys/fs/pstore/console-ramoops-0", 2000, panic),
                (
                    "var/lib/systemd/pstore/1700/001/dmesg-efi-1",
                    1000,
                    forged + panic.removeprefix(head),
                ),
                ("var/lib/systemd/pstore/1700/001/dmesg.txt", 3000, panic),
                ("var/lib/systemd/pstore/dmesg-ramoops-0", 500, "<4>[ 1.0] nothing\n"),
            ):
                path = Path(name) / place
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(text)
                os.utime(path, (at_s, at_s))
            root = Root(Path(name))
            self.assertEqual(
                [
                    Crash(500.0),
                    Crash(1000.0, "Attempted to kill init!"),
                    Crash(2000.0, "Attempted to kill init!"),
                ],
                read_crashes(root),
            )
            root.close()


class Updates(unittest.TestCase):
    LISTS = "var/lib/apt/lists"

    def read(self, files, *packages):
        with TemporaryDirectory() as name:
            for path, text in files.items():
                (Path(name) / self.LISTS / path).parent.mkdir(parents=True, exist_ok=True)
                (Path(name) / self.LISTS / path).write_text(text)
            root = Root(Path(name))
            result = read_known_updates(root, packages)
            root.close()
            return result and result.updates, sorted(spot.reason for spot in root.unread)

    def test_of_a_long_list_what_is_newer(self):
        # ordered by source, as archives are; each stanza has a different length
        names = sorted(f"{letter}uk-{number}" for letter in "abt" for number in range(1500))
        stanzas = {
            name: f"Package: {name}\nVersion: 2.1-1\nDescription: {'bird ' * (7 + i % 9)}\n"
            for i, name in enumerate(names)
        }
        stanzas["tuk-700"] = "Package: zz-tools\nSource: tuk-700 (2.2)\nVersion: 1:2.2\n"
        text = "\n".join(stanzas.values())
        self.assertGreater(len(text), 300_000)
        wanted = [
            Package("/a", "auk-0", "2.0-9"),
            Package("/b", "auk-999", "2.1-1"),
            Package("/c", "tuk-999", "2.1~rc3-4"),
            Package("/d", "zz-tools", "1:2.1", source="tuk-700"),
            Package("/e", "buk-77", "2.10-1"),
            Package("/f", "cuk-1", "1"),
        ]
        place = "skerrow_dists_stable_main_binary-amd64_Packages"
        newer = [
            KnownUpdate("auk-0", "2.0-9", "2.1-1"),
            KnownUpdate("tuk-999", "2.1~rc3-4", "2.1-1"),
            KnownUpdate("zz-tools", "1:2.1", "1:2.2"),
        ]
        self.assertEqual((newer, []), self.read({place: text}, *wanted))
        asked_for = {
            place: text,
            "skerrow_dists_stable_InRelease": "Origin: S\nNotAutomatic: yes\n",
        }
        self.assertEqual((None, []), self.read(asked_for, *wanted))
        self.assertEqual((None, ["packed"]), self.read({f"{place}.lz4": "?"}, *wanted))

    def stanza(self, name, version="2.0", **more):
        words = "".join(f"{word}: {text}\n" for word, text in more.items())
        return f"Package: {name}\n{words}Version: {version}\n"

    def test_only_lists_of_this_computers_own_architecture_count(self):
        auk = Package("/a", "auk", "1.0")
        places = {
            f"skerrow_dists_stable_main_binary-{of}_Packages": self.stanza("auk", version)
            for of, version in (("amd64", "1.1"), ("i386", "9.9"))
        }
        own = {"../../dpkg/arch": "amd64\ni386\n"}
        self.assertEqual([KnownUpdate("auk", "1.0", "1.1")], self.read({**places, **own}, auk)[0])
        # without that word any of them may be it
        self.assertEqual([KnownUpdate("auk", "1.0", "9.9")], self.read(places, auk)[0])

    def test_the_newest_of_several_lists_and_of_several_stanzas(self):
        auk = Package("/a", "auk", "1.0")
        lists = {
            "a_dists_stable_main_binary-amd64_Packages": "\n".join(
                self.stanza("auk", version) for version in ("1.2", "1.10", "1.9")
            ),
            "b_dists_more_main_binary-amd64_Packages": self.stanza("auk", "1.3~rc1"),
        }
        self.assertEqual([KnownUpdate("auk", "1.0", "1.10")], self.read(lists, auk)[0])

    def test_a_list_in_another_order_or_none_at_all_says_nothing_false(self):
        place = "a_dists_stable_main_binary-amd64_Packages"
        auk = Package("/a", "auk", "1.0")
        names = [f"{letter}uk-{number}" for number in range(3000) for letter in "zam"]
        mixed = "\n".join(self.stanza(name, Filler="x" * 40) for name in names)
        result, _ = self.read({place: mixed + "\n" + self.stanza("auk", "1.1")}, auk)
        self.assertIn(result, ([], [KnownUpdate("auk", "1.0", "1.1")]))
        for text in (
            "",
            "\n\n\n",
            "Package: auk\n",
            "Version: 2\n\nPackage: auk\n",
            "\0" * 300_000,
        ):
            with self.subTest(text[:20]):
                self.assertEqual([], self.read({place: text}, auk)[0])

    def test_a_package_without_a_version_is_not_looked_for(self):
        place = "a_dists_stable_main_binary-amd64_Packages"
        result, _ = self.read({place: self.stanza("auk", "1.1")}, Package("/a", "auk"))
        self.assertEqual([], result)

    def test_a_stanza_longer_than_a_look_is_passed(self):
        place = "a_dists_stable_main_binary-amd64_Packages"
        long = self.stanza("bittern", Depends="x" * 200_000)
        text = "\n".join([self.stanza("auk", "1.1"), long, self.stanza("tern", "1.1")])
        result, _ = self.read({place: text}, Package("/a", "auk", "1.0"))
        self.assertEqual([KnownUpdate("auk", "1.0", "1.1")], result)

    def test_versions_are_ordered_as_the_package_manager_does(self):
        ordered = [
            "1.0~rc1",
            "1.0",
            "1.0-0",
            "1.0-0+b1",
            "1.0-1~bpo1",
            "1.0-1",
            "1.0a",
            "1.0+1",
            "1.0.1",
            "1.2",
            "1.10",
            "1:0.1",
        ]
        keys = list(map(version_key, ordered))
        self.assertEqual(sorted(keys), keys)
        self.assertEqual(keys[1], keys[2])
