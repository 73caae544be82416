"""Readers and their series on trees of sysfs files, as drivers of several makes write them."""

import gzip
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from dunmist.advice import doubt_text
from dunmist.computer import (
    Root,
    cpus,
    disks,
    graphics,
    links,
    packages,
    read_file_systems,
    sensors,
    service_files,
)
from dunmist.errors import SettingsError
from dunmist.series import TimeLine
from dunmist.series.counters import Readings
from dunmist.series.sensors import load_corrections, processor_sensor, sensor_series
from tests import trees
from tests.program import DATA


class OnTrees(unittest.TestCase):
    def setUp(self):
        holder = TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.root = Root(self.folder)
        self.addCleanup(self.root.close)

    def sensed(self, *files, corrections="", ticks=3):
        """Return the series of the sensors of some chips that stand still."""
        for item in files:
            trees.plant(self.folder, item)
        result = sensors.read_sensors(self.root)
        readings, line = Readings("raw"), TimeLine(np.arange(float(ticks)))
        for index, sensor in enumerate(result):
            readings.add(0, index, [sensors.read_reading(self.root, sensor)])
        settings = self.folder / "sensors.toml"
        settings.write_text(corrections)
        return sensor_series(readings.over(line), result, line, load_corrections(settings))


class Sensors(OnTrees):
    def test_the_right_one_is_taken_for_the_processor(self):
        for name, files, expected, celsius in (
            ("package before cores", [trees.PACKAGE], "coretemp Package id 0", 71.0),
            ("die before control value", [trees.CONTROL_VALUE], "k10temp Tdie", 60.5),
            ("hottest of several dies", [trees.DIES], "k10temp Tccd2", 66.0),
            ("zone where there is no chip", [trees.ZONE, trees.BOARD], "thermal zone acpitz", 47.0),
        ):
            with self.subTest(name), TemporaryDirectory() as directory:
                self.folder = Path(directory)
                self.root = Root(self.folder)
                chosen = processor_sensor(self.sensed(*files))
                self.assertEqual((expected, celsius), (chosen.name, chosen.level.last()))
                self.assertTrue(chosen.why)
                self.root.close()

    def test_every_channel_is_read_with_its_limits(self):
        result = {item.name: item for item in self.sensed(trees.PACKAGE, trees.BOARD, trees.ZONE)}
        package = result["coretemp Package id 0"]
        self.assertEqual(
            (100.0, 84.0, "coretemp.0"), (package.critical, package.high, package.sensor.device)
        )
        self.assertEqual(1180.0, result["nct6775 fan1"].level.last())
        self.assertAlmostEqual(1.056, result["nct6775 Vcore"].level.last())
        self.assertEqual(["alarm"], result["nct6775 fan2"].sensor.alarms)
        # a trip point below absolute zero is how a driver says that there is none
        self.assertEqual({"critical": 105000}, result["thermal zone acpitz"].sensor.limits)

    def test_what_cannot_be_true_is_left_out_with_the_reason(self):
        doubts = {
            item.name: doubt_text(item.doubt) if item.doubt else None
            for item in self.sensed(trees.BOARD)
        }
        self.assertIn("127", doubts["nct6775 AUXTIN0"])
        self.assertIn("stands still at 0", doubts["nct6775 AUXTIN1"])
        self.assertIn("fault", doubts["nct6775 temp4"])
        self.assertIsNone(doubts["nct6775 SYSTIN"])

    def test_people_may_rename_correct_and_leave_out(self):
        result = self.sensed(
            trees.BOARD,
            corrections='[[sensor]]\ndriver = "nct6775"\nchannel = "SYSTIN"\nname = "case"'
            "\nplus = -8\n"
            '[[sensor]]\ndriver = "nct*"\nchannel = "AUX*"\nleave_out = true\n',
        )
        by_name = {item.name: item for item in result}
        self.assertEqual(33.0, by_name["case"].level.last())
        self.assertNotIn("nct6775 AUXTIN0", by_name)

    def test_wrong_corrections_say_where(self):
        for text in ("[[sensor]]\nlabel = 3\n", "sensor = [", '[[sensor]]\nchip="a"\ncolour=1\n'):
            settings = self.folder / "sensors.toml"
            settings.write_text(text)
            with self.subTest(text), self.assertRaisesRegex(SettingsError, r"sensors\.toml"):
                load_corrections(settings)

    def test_an_energy_counter_may_wrap(self):
        trees.plant(self.folder, trees.ENERGY)
        (sensor,) = sensors.read_sensors(self.root)
        readings, line = Readings("raw"), TimeLine(np.arange(3.0))
        for row, raw in enumerate((262_143_000_000, 262_143_300_000, 20_000_000)):
            readings.add(row, 0, [raw])
        (item,) = sensor_series(readings.over(line), [sensor], line, [])
        np.testing.assert_allclose([0.3, 20.02885], item.watts.values)


class Devices(OnTrees):
    def test_disks_partitions_and_what_is_mapped_onto_them(self):
        trees.plant(self.folder, trees.DISKS)
        result = {read_disk.name: read_disk for read_disk in disks.read_disks(self.root)}
        self.assertEqual({"sda", "dm-0"}, set(result))
        disk = result["sda"]
        self.assertEqual(
            (512_000_000, True, "Guillemot Spinner", "mq-deadline", 64, ["sda1"]),
            (
                disk.size_bytes,
                disk.spins,
                disk.model,
                disk.scheduler,
                disk.queue_depth,
                disk.partitions,
            ),
        )
        self.assertEqual(
            (["sda1"], "ledge"), (result["dm-0"].disks_below, result["dm-0"].mapped_name)
        )

    def test_links_that_tell_no_speed(self):
        base = "sys/class/net/"
        trees.plant(
            self.folder,
            {
                f"{base}enp3s0/type": "1",
                f"{base}enp3s0/speed": "2500",
                f"{base}enp3s0/duplex": "full",
                f"{base}enp3s0/operstate": "up",
                f"{base}enp3s0/mtu": "1500",
                f"{base}enp3s0/device": None,
                f"{base}wlp4s0/type": "1",
                f"{base}wlp4s0/speed": "-1",
                f"{base}wlp4s0/wireless": None,
                f"{base}lo/type": "772",
                "proc/net/route": "Iface\n",
            },
        )
        result = {read_link.name: read_link for read_link in links.read_links(self.root)}
        self.assertEqual(
            (2_500_000_000, True, False),
            (
                result["enp3s0"].speed_bits_per_s,
                result["enp3s0"].physical,
                result["enp3s0"].wireless,
            ),
        )
        self.assertEqual(
            (None, True, True),
            (result["wlp4s0"].speed_bits_per_s, result["wlp4s0"].wireless, result["lo"].loopback),
        )

    def test_graphics(self):
        trees.plant(self.folder, trees.CARD)
        cards = graphics.read_graphics_cards(self.root)
        self.assertEqual(
            [("card0", "amdgpu", "1002:73bf")],
            [(card.name, card.driver, card.pci_id) for card in cards],
        )
        (now,) = graphics.read_graphics(self.root, cards)
        self.assertEqual(
            (83, 1 << 30, 2_100_000_000), (now.busy_percent, now.memory_used_bytes, now.clock_hz)
        )

    def test_processors_of_two_kinds_and_their_throttling(self):
        base = "sys/devices/system/cpu/"
        trees.plant(
            self.folder,
            {
                f"{base}cpu0/topology/core_id": "0",
                f"{base}cpu0/topology/physical_package_id": "0",
                f"{base}cpu0/cpu_capacity": "1024",
                f"{base}cpu0/cpufreq/scaling_governor": "powersave",
                f"{base}cpu0/cpufreq/base_frequency": "2100000",
                f"{base}cpu0/thermal_throttle/core_throttle_count": "12",
                f"{base}cpu0/thermal_throttle/package_throttle_count": "30",
                f"{base}cpu1/cpu_capacity": "580",
                f"{base}offline": "2-3,5",
            },
        )
        strong, weak = cpus.read_processors(self.root, [0, 1])
        self.assertEqual(
            (1024, 580, "powersave", 2_100_000),
            (strong.capacity, weak.capacity, strong.governor, strong.base_khz),
        )
        self.assertEqual([2, 3, 5], cpus.read_offline(self.root))
        numbers = cpus.find_throttling(self.root, [0, 1])
        (counts,) = cpus.read_throttling(self.root, numbers)
        self.assertEqual((0, 12, 30), (counts.processor, counts.core, counts.package))


class FileSystems(OnTrees):
    def test_what_a_program_unpacks_is_never_full(self):
        """As a mounted archive answers, a full disk of a server, and a full one of its own."""
        about = {
            "archive": ("fuse.shelf", "4096 500 0 0 900 0"),
            "server": ("fuse.far", "4096 500 0 0 900 30"),
            "stick": ("fuseblk", "4096 500 0 0 900 0"),
        }
        lines = [
            f"{20 + index} 1 0:{index} / /{name} rw - {kind} x rw"
            for index, (name, (kind, _)) in enumerate(about.items())
        ]
        trees.plant(
            self.folder,
            {"proc/self/mountinfo": "\n".join(lines)}
            | {f"statvfs/{name}": sizes for name, (_, sizes) in about.items()},
        )
        read_only = {item.point: item.read_only for item in read_file_systems(self.root)}
        self.assertEqual({"/archive": True, "/server": False, "/stick": False}, read_only)


class Software(OnTrees):
    def test_unit_files(self):
        lib, etc = "usr/lib/systemd/system/", "etc/systemd/system/"
        boot, consoles = f"{etc}multi-user.target.wants/", f"{etc}getty.target.wants/"
        install = "[Install]\nWantedBy=multi-user.target"
        trees.plant(
            self.folder,
            {
                f"{lib}tern.service": f"[Unit]\nDescription=Counts terns\n{install}",
                f"{lib}auk.service": f"[Unit]\nDescription=Auk\n{install}",
                f"{lib}plain.service": "[Service]\nExecStart=/bin/x",
                f"{lib}night.timer": "[Timer]\nOnCalendar=daily\nUnit=tern.service",
                f"{boot}tern.service": f"-> /{lib}tern.service",
                f"{consoles}getty@tty1.service": f"-> /{lib}getty@.service",
                f"{etc}gone.service": "-> /dev/null",
                f"{etc}alias.service": f"-> /{lib}auk.service",
            },
        )
        result = {
            read_unit_file.name: read_unit_file
            for read_unit_file in service_files.read_unit_files(self.root)
        }
        self.assertEqual(
            {
                "tern.service": "enabled",
                "auk.service": "disabled",
                "plain.service": "static",
                "night.timer": "static",
                "getty@tty1.service": "enabled",
                "gone.service": "masked",
            },
            {name: item.starts for name, item in result.items()},
        )
        self.assertEqual(
            ("Counts terns", "daily", "tern.service"),
            (
                result["tern.service"].about,
                result["night.timer"].schedule,
                result["night.timer"].triggers,
            ),
        )

    def test_packages_of_both_databases(self):
        trees.plant(
            self.folder,
            {
                "var/lib/dpkg/info/tern:amd64.list": "/.\n/bin/tern\n/usr/share/tern",
                "var/lib/dpkg/info/auk.list": "/.\n/usr/bin/auklet",
                "var/lib/dpkg/status": "Package: tern\nVersion: 2.0-1\nDescription: counts terns",
            },
        )
        asked = ["/usr/bin/tern", "/usr/bin/auk", "/nowhere"]
        (result,) = packages.read_packages(self.root, asked)
        self.assertEqual(
            ("/usr/bin/tern", "tern", "2.0-1", "counts terns"),
            (result.executable, result.name, result.version, result.about),
        )

    def test_packages_are_found_in_steps_and_far_inside_long_files(self):
        many = "\n".join(f"/usr/share/tern/{number}" for number in range(9000))
        stanzas = "\n\n".join(f"Package: p{n}\nDescription: {'x' * 90}" for n in range(2000))
        trees.plant(
            self.folder,
            {
                "var/lib/dpkg/info/auk.list": "/.\n/usr/bin/auk",
                "var/lib/dpkg/info/tern.list": f"{many}\n/usr/bin/tern\n{many}",
                "var/lib/dpkg/status": f"{stanzas}\n\nPackage: tern\nVersion: 2.0-1\n\n{stanzas}",
            },
        )
        lookup = packages.PackageLookup(self.root, ["/usr/bin/tern", "/usr/bin/auk"])
        lookup.go_on(lambda: True)
        found = {item.executable: (item.name, item.version) for item in lookup.packages()}
        self.assertEqual({"/usr/bin/auk": ("auk", None), "/usr/bin/tern": ("tern", "2.0-1")}, found)

    def test_an_rpm_database(self):
        place = self.folder / "var/lib/rpm/rpmdb.sqlite"
        place.parent.mkdir(parents=True)
        place.write_bytes(gzip.decompress((DATA / "rpmdb.sqlite.gz").read_bytes()))
        (result,) = packages.read_packages(self.root, ["/usr/bin/tern-count", "/opt/tern-count"])
        self.assertEqual(
            ("tern-tools", "3.1", "Counts terns on the western cliff"),
            (result.name, result.version, result.about),
        )
        place.write_bytes(place.read_bytes()[:9000])
        self.assertEqual([], packages.read_packages(self.root, ["/usr/bin/tern-count"]))
        self.assertIn("package databases", {item.subject for item in self.root.unread})
