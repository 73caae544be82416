"""The readers against the kernel's text, whole, older, newer, hostile and broken."""

import os
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest.mock import patch

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from dunmist.computer import (
    ControlGroups,
    GroupWeight,
    IoLimit,
    MemoryEvents,
    ParseError,
    Root,
    cpus,
    frozen_groups,
    io_limits,
    link_queues,
    machine,
    memory,
    memory_events,
    processes,
    task_limits,
    users,
)
from dunmist.computer import load as load_module
from dunmist.sampling.process_table import ProcessTable

STAT = (
    b"4711 (%s) S 1 4711 4711 0 -1 4194560 2279 261342 3 139 91 323 1755 1189 20 5 13 0 119 "
    b"38346752 2287 18446744073709551615 1 1 0 0 0 0 0 4096 1256 0 0 0 17 6 0 0 42 0 0 0 0 0 0\n"
)
PROC_STAT = (
    b"cpu  30 2 40 500 6 0 7 8 1 0\ncpu0 10 1 20 250 3 0 3 4 1 0\ncpu2 20 1 20 250 3 0 4 4 0 0\n"
    b"intr 5005 0 9 0\nctxt 123456\nbtime 1700000000\nprocesses 9001\nprocs_running 3\n"
    b"procs_blocked 1\nsoftirq 777 1 2\n"
)
PARSERS = (
    processes.parse_process_stat,
    processes.parse_owner,
    processes.parse_statm,
    processes.parse_schedstat,
    processes.parse_cmdline,
    processes.parse_cgroup,
    cpus.parse_stat,
    cpus.parse_khz,
    cpus.parse_model,
    cpus.parse_number,
    load_module.parse_loadavg,
    load_module.parse_uptime,
    load_module.parse_pressure,
    memory.parse_meminfo,
    memory.parse_vmstat,
    machine.parse_line,
    machine.parse_distribution,
    users.parse_passwd,
    memory_events.parse_memory_events,
    memory_events.parse_memory_max,
    frozen_groups.parse_group_events,
    task_limits.parse_task_count,
    io_limits.parse_io_max,
    io_limits.parse_device_names,
    task_limits.parse_refused_tasks,
    lambda data: link_queues.parse_queue(memoryview(data)),
    lambda data: link_queues.parse_address(memoryview(data)),
)
SAMPLES = (
    STAT % b"kittiwake",
    PROC_STAT,
    b"0.45 0.30 0.20 2/314 4711\n",
    b"93600.52 300000.10\n",
    b"some avg10=0.46 avg60=5.26 avg300=3.20 total=13215131\n",
    b"MemTotal:  7840 kB\n",
    b"oom 0\noom_kill 3\n",
    b"max\n",
    bytes.fromhex("0000000004000000"),
    b"pswpin 5\npswpout 6\n",
    b"Name:\tx\nUid:\t0\t1004\t0\t0\n",
    b"9 8 7 0 0 0 0\n",
    b"12 34 5\n",
)


class ProcessText(unittest.TestCase):
    def test_a_name_may_hold_anything(self):
        for name, shown in (
            (b"kittiwake", "kittiwake"),
            (b"a) R 1 (b", "a) R 1 (b"),
            (b"two\nlines", "two\nlines"),
            (b"\xff\xfe", r"\xff\xfe"),
        ):
            with self.subTest(name=name):
                stat = processes.parse_process_stat(STAT % name)
                self.assertEqual((4711, shown, "S", 1), stat[:4])
                self.assertEqual(
                    (91, 323, 1755, 1189),
                    (
                        stat.user_clk,
                        stat.system_clk,
                        stat.children_user_clk,
                        stat.children_system_clk,
                    ),
                )
                self.assertEqual((5, 13, 119), (stat.nice, stat.threads, stat.start_clk))
                self.assertEqual((2287, 6, 42), (stat.rss_pages, stat.processor, stat.io_delay_clk))

    def test_an_older_kernel_has_fewer_fields(self):
        short = STAT[: STAT.index(b" 18446744073709551615")] % b"x"
        stat = processes.parse_process_stat(short)
        self.assertEqual((2287, -1, 0), (stat.rss_pages, stat.processor, stat.io_delay_clk))

    def test_the_effective_user_counts(self):
        self.assertEqual(
            (1004, 27), processes.parse_owner(b"Name:\tx\nUid:\t0\t1004\t0\t0\nGid:\t5\t27\t5\t5\n")
        )

    def test_the_control_group_of_the_service_manager_is_taken(self):
        for text, unit, cpu in (
            (
                b"0::/system.slice/tern.service\n",
                "/system.slice/tern.service",
                "/system.slice/tern.service",
            ),
            (b"4:memory:/x\n3:cpu,cpuacct:/y\n1:name=systemd:/a.scope\n0::/\n", "/a.scope", "/y"),
            (b"4:memory:/x\n0::/\n", "/", "/"),
            (b"", None, None),
        ):
            with self.subTest(text=text):
                self.assertEqual((unit, cpu), processes.parse_cgroup(text))

    def test_a_program_may_overwrite_its_arguments(self):
        self.assertEqual(["a", "", "b"], processes.parse_cmdline(b"a\0\0b\0"))
        self.assertEqual(["tern: idle"], processes.parse_cmdline(b"tern: idle\0\0\0"))
        self.assertEqual([], processes.parse_cmdline(b""))


class WholeFiles(unittest.TestCase):
    def test_what_the_kernel_gives_page_by_page_is_read_to_its_end(self):
        # a line of the mappings names each library; they are several pages long
        with Path("/proc/self/maps").open("rb", buffering=1 << 20) as file:
            libraries = {line.split()[-1] for line in file if b"/" in line}
        root = Root(Path("/"))
        self.addCleanup(root.close)
        for data in (root.read("proc/self/maps"), root.read_again("proc/self/maps")):
            self.assertGreater(len(data), 4096)
            self.assertLessEqual(libraries, {line.split()[-1] for line in data.splitlines()})


class MachineText(unittest.TestCase):
    def test_processors_may_be_offline(self):
        times = cpus.parse_stat(PROC_STAT)
        self.assertEqual([0, 2], list(times.times_clk))
        self.assertEqual([10, 1, 20, 250, 3, 0, 3, 4, 1, 0], times.times_clk[0])
        self.assertEqual(
            (9001, 3, 1, 123456),
            (times.forks, times.runnable, times.blocked, times.context_switches),
        )

    def test_figures_keep_the_kernels_words_and_units(self):
        self.assertEqual(
            {"MemTotal": 7840, "Active(anon)": 5, "HugePages_Total": 2},
            memory.parse_meminfo(
                b"MemTotal:    7840 kB\nActive(anon):  5 kB\nHugePages_Total:  2\n"
            ),
        )
        self.assertEqual({"pswpin": 5}, memory.parse_vmstat(b"nr_free_pages 9\npswpin 5\n"))
        stalls = load_module.parse_pressure(
            b"some avg10=0.46 avg60=5.26 avg300=3.20 total=13215131\n"
        )
        self.assertEqual((13215131, None), (stalls.some_us, stalls.full_us))
        self.assertEqual(2, load_module.parse_loadavg(b"0.45 0.30 0.20 2/314 4711\n").runnable)

    @settings(max_examples=300, deadline=None)
    @given(
        st.one_of(
            st.binary(max_size=300),
            st.sampled_from(SAMPLES).flatmap(
                lambda text: st.builds(
                    lambda at, more: text[:at] + more + text[at + len(more) :],
                    st.integers(0, len(text)),
                    st.binary(max_size=20),
                )
            ),
        )
    )
    def test_a_parser_fails_only_with_its_own_error(self, data):
        for parser in PARSERS:
            try:
                parser(data)
            except ParseError:
                continue


# a queue as Linux 6.18 dumps it: pfifo_fast of link 4, the outermost, 4,500 bytes wait, 7 dropped
QUEUE = bytes.fromhex(
    "000000000400000000000000ffffffff020000000f000100706669666f5f66617374000018000200030000000102020201"
    "020000010101010101010105000c00000000003000070014000100b9530e0000000000e5260000000000001800030003"
    "000000941100000700000000000000000000002c000300b9530e0000000000e526000000000000000000000000000000"
    "000000000000000000000000000000"
)


class Links(unittest.TestCase):
    def test_what_waits_in_a_queue(self):
        self.assertEqual((4, 4500, 7), link_queues.parse_queue(memoryview(QUEUE)))
        for case, old, new in (
            ("within another one", b"\xff\xff\xff\xff", b"\x01\x00\x01\x00"),
            ("none", b"pfifo_fast\0", b"noqueue\0\0\0\0"),
            ("it sends when it likes", b"pfifo_fast\0", b"netem\0\0\0\0\0\0"),
        ):
            with self.subTest(case):
                changed = QUEUE.replace(old, new, 1)
                self.assertIsNone(link_queues.parse_queue(memoryview(changed)))

    def test_this_computer_knows_its_own_addresses(self):
        self.assertIn("127.0.0.1", link_queues.read_addresses(Root(Path("/")))["lo"])


class Groups(unittest.TestCase):
    """Control groups of version 2 in a tree of files."""

    def setUp(self):
        holder = TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder, self.root = Path(holder.name), Root(Path(holder.name))
        self.write("cgroup.controllers", "cpu memory")
        self.groups = ControlGroups(self.root)

    def write(self, name, text):
        file = self.folder / "sys/fs/cgroup" / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text + "\n")

    def test_who_shares_processors_with_whom(self):
        for name, text in (
            ("a.slice/cpu.weight", "50"),
            ("a.slice/b.service/cpu.weight", "20"),
            ("a.slice/b.service/cpu.idle", "0"),
            ("c.slice/cpu.weight", "100"),
            ("c.slice/cpu.idle", "1"),
            ("d/cgroup.procs", ""),
        ):
            self.write(name, text)
        autogroup = self.folder / "proc/sys/kernel/sched_autogroup_enabled"
        autogroup.parent.mkdir(parents=True)
        autogroup.write_text("1\n")
        result = self.groups.scheduling(["/a.slice/b.service/x", "/c.slice", "/d"])
        self.assertTrue(result.autogroup)
        self.assertEqual(
            [
                GroupWeight("/a.slice/b.service/x", "/a.slice/b.service", 10),
                GroupWeight("/c.slice", "/c.slice", 100, True),
                GroupWeight("/d"),
            ],
            result.groups,
        )

    def test_where_something_was_ended_for_lack_of_memory(self):
        events = "low 0\nhigh 4\nmax 9\noom {}\noom_kill {}"
        for name, text in (
            ("a.slice/memory.events", events.format(2, 3)),
            ("a.slice/memory.max", "max"),
            ("a.slice/b.service/memory.events", events.format(2, 2)),
            ("a.slice/b.service/memory.max", "67108864"),
            ("c.slice/memory.events", events.format(0, 0)),
        ):
            self.write(name, text)
        self.assertEqual(
            [
                MemoryEvents("/a.slice", 2, 3, None),
                MemoryEvents("/a.slice/b.service", 2, 2, 1 << 26),
            ],
            self.groups.memory_events({"/a.slice/b.service", "/c.slice"}),
        )

    def test_the_topmost_frozen_groups(self):
        for name, frozen in (("a", 0), ("a/b", 1), ("a/b/c", 1), ("d", 0), ("d/e", 0)):
            self.write(f"{name}/cgroup.events", f"populated 1\nfrozen {frozen}\n")
        found = self.groups.frozen({"/a/b/c", "/d/e", "/gone"})
        self.assertEqual([("/a/b", "sys/fs/cgroup")], [(each.path, each.mount) for each in found])

    def test_limits_of_disk_io(self):
        for name, limits in (
            ("a", "8:16 rbps=1048576 wbps=max riops=max wiops=120\n"),
            ("a/b", "8:0 rbps=max wbps=max riops=max wiops=max\n253:7 riops=50\n"),
            ("c", ""),
            ("d", "nonsense\n"),
        ):
            self.write(f"{name}/io.max", limits)
        disks = Path(self.root.path) / "proc"
        disks.mkdir(exist_ok=True)
        disks.joinpath("diskstats").write_text("   8      16 sdb 1 0 8 1 0 0 0 0 0 1 1\n")
        found = self.groups.io_limits({"/a/b", "/c", "/d", "/gone"})
        self.assertEqual(
            [
                IoLimit("/a", "sdb", 1048576, None, None, 120),
                IoLimit("/a/b", "253:7", reads_per_s=50),
            ],
            found,
        )
        self.assertIn((io_limits.SUBJECT, "garbled"), self.root.unread)

    def test_groups_close_to_their_limit_of_tasks(self):
        for name, limit, tasks, refused in (
            ("a", "max", 900, 0),
            ("a/near", "100", 75, 7),
            ("a/far", "100", 74, 7),
            ("b", "0", 0, 0),
        ):
            self.write(f"{name}/pids.max", f"{limit}\n")
            self.write(f"{name}/pids.current", f"{tasks}\n")
            self.write(f"{name}/pids.events", f"max {refused}\n")
        found = self.groups.task_limits({"/a/near/below", "/a/far", "/b", "/gone"})
        self.assertEqual(
            [("/a/near", 75, 100, 7)], [msgspec.structs.astuple(item) for item in found]
        )


class Table(unittest.TestCase):
    """The process table on a proc tree that changes under it."""

    def setUp(self):
        holder = TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.proc = Path(holder.name) / "proc"
        self.root = Root(Path(holder.name))
        self.add(4711, STAT % b"kittiwake")
        self.table = ProcessTable(self.root, 100)
        self.addCleanup(self.table.close)

    def add(self, pid, stat):
        directory = self.proc / str(pid)
        directory.mkdir(parents=True, exist_ok=True)
        (directory / "stat").write_bytes(stat)

    def test_only_what_changed_is_given(self):
        first = self.table.sample(0)
        self.assertEqual([4711], [facts.pid for _, facts in first.appeared])
        self.assertEqual([], self.table.sample(1).samples)
        self.add(4711, (STAT % b"kittiwake").replace(b" 91 323 ", b" 95 323 "))
        self.assertEqual([95], [sample.user_clk for sample in self.table.sample(1).samples])

    def test_a_number_used_again_is_another_identity(self):
        self.table.sample(0)
        self.add(4711, (STAT % b"razorbill").replace(b" 0 119 ", b" 0 220 "))
        result = self.table.sample(1)
        self.assertEqual(
            ({0: 4711}, [1]), (result.ended, [number for number, _ in result.appeared])
        )

    def test_a_program_that_replaces_itself_keeps_its_identity(self):
        self.table.sample(0)
        self.add(4711, STAT % b"guillemot")
        result = self.table.sample(1)
        self.assertEqual([(0, "guillemot")], [(n, facts.name) for n, facts in result.became])

    def test_what_a_process_does_on_a_graphics_card(self):
        descriptors = self.proc / "4711" / "fd"
        descriptors.mkdir()
        (descriptors / "5").symlink_to("/dev/dri/renderD128")
        (descriptors / "6").symlink_to("socket:[9090]")
        information = self.proc / "4711" / "fdinfo"
        information.mkdir()
        text = "drm-driver:\tx\ndrm-client-id:\t1\ndrm-engine-gfx:\t{} ns\n"
        (information / "5").write_text(text.format(100))
        first = self.table.sample(0)
        self.assertEqual([[9090]], [detail.sockets for detail in first.details])
        (information / "5").write_text(text.format(350))
        (use,) = self.table.sample(1).graphics
        self.assertEqual((0, {"gfx": 350}), (use.process, use.engines_ns))

    def test_no_more_files_stay_open_than_allowed(self):
        """Few processes whose files are all held, and then many that come."""
        allowed = 60
        with patch("dunmist.sampling.process_table.raise_descriptor_limit", lambda: allowed):
            table = ProcessTable(self.root, 100)
        self.addCleanup(table.close)
        before = len(os.listdir("/proc/self/fd"))
        for round in range(4):
            for pid in range(100, 105 if round < 2 else 200):
                stat = (STAT % b"auk").replace(b"4711 ", b"%d " % pid, 1)
                self.add(pid, stat.replace(b" 91 323 ", b" %d 323 " % (91 + round)))
                for name in ("statm", "io", "schedstat"):
                    (self.proc / str(pid) / name).write_text("1 1 1\nread_bytes: 1\n")
            given = table.sample(1)
        self.assertEqual(100, len(given.samples))
        self.assertLessEqual(len(os.listdir("/proc/self/fd")) - before, allowed // 2 + 1)
        self.assertGreater(len(os.listdir("/proc/self/fd")) - before, allowed // 4)

    @patch("dunmist.sampling.process_table.LINE_ROUNDS", 1000)
    def test_who_rests_is_told_by_schedstat_and_only_where_that_counts(self):
        """A kernel may write noughts for all of them, and then the line has to be read."""
        self.root.is_this_computer = True
        single = (STAT % b"auk").replace(b" 5 13 0 ", b" 5 1 0 ")
        for pid, counted in ((10, "0 0 0"), (11, "500 0 7"), (12, "500 0 7")):
            self.add(pid, single.replace(b"4711 ", b"%d " % pid, 1))
            (self.proc / str(pid) / "schedstat").write_text(counted)
        table = ProcessTable(self.root, 100)
        self.addCleanup(table.close)
        for _ in range(9):  # by then it is nobody's turn
            table.sample(1, pages_went=False)
        for pid in (10, 11, 12):
            stat = single.replace(b"4711 ", b"%d " % pid, 1)
            self.add(pid, stat.replace(b" 91 323 ", b" 95 323 "))
        (self.proc / "12" / "schedstat").write_text("900 0 8")
        told = table.sample(1, pages_went=False)
        numbers = {pid: number for number, pid in table.numbered()}
        self.assertEqual({numbers[10], numbers[12]}, {sample.process for sample in told.samples})
        # who rests is read when the kernel took pages from anybody
        told = table.sample(1, pages_went=True)
        self.assertEqual([numbers[11]], [sample.process for sample in told.samples])

    def test_a_process_may_vanish_or_be_garbage(self):
        self.add(12, b"")
        (self.proc / "13").mkdir()
        self.add(14, b"14 (x) S 1 garbage")
        self.assertEqual(1, len(self.table.sample(0).appeared))
        self.assertEqual(
            {"processes": 2},
            {u.subject: len(n) for u, n in self.root.unread.items() if u.subject == "processes"},
        )
        for file in (self.proc / "4711").iterdir():
            file.unlink()
        (self.proc / "4711").rmdir()
        self.assertEqual({0: 4711}, self.table.sample(1).ended)
