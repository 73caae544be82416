"""What the kernel complained of, earlier starts, and what waits for a restart."""

import sqlite3
import struct
import unittest
from contextlib import closing
from pathlib import Path
from tempfile import TemporaryDirectory

from dunmist.computer import KERNEL_MESSAGE_KINDS
from dunmist.computer.boot_history import ComputerStart, read_starts
from dunmist.computer.kernel_log import KernelLog, LogLine, classify, parse_log_record
from dunmist.computer.pending_restart import read_pending
from dunmist.computer.root import Root

# class, what it names, and a line as the sources of Linux 6.1 print it
LINES = """
medium-error|sdb|critical medium error, dev sdb, sector 88214016 op 0x0:(READ) flags 0x80700 phys_seg 1 prio class 2
medium-error|sda|sd 0:0:0:0: [sda] tag#11 Sense Key : Medium Error [current]
io-error|sda|I/O error, dev sda, sector 2048 op 0x1:(WRITE) flags 0x800 phys_seg 1 prio class 2
io-error|sdc|blk_update_request: I/O error, dev sdc, sector 0 op 0x0:(READ) flags 0x0 phys_seg 1 prio class 0
io-error|sda1|Buffer I/O error on dev sda1, logical block 12, async page read
drive-reset|ata3.00|ata3.00: exception Emask 0x10 SAct 0x400000 SErr 0x4050000 action 0xe frozen
drive-reset|ata3|ata3: hard resetting link
drive-reset|ata3.00|ata3.00: failed command: READ FPDMA QUEUED
drive-reset|nvme0|nvme nvme0: I/O 128 (I/O Cmd) QID 3 timeout, aborting
drive-reset|nvme0|nvme nvme0: controller is down; will reset: CSTS=0xffffffff, PCI_STATUS=0x10
drive-reset|mmc0|mmc0: Timeout waiting for hardware interrupt.
file-system-error|sda1|EXT4-fs error (device sda1): ext4_find_entry:1683: inode #131075: comm ls: reading directory lblock 0
file-system-read-only|sda1|EXT4-fs (sda1): Remounting filesystem read-only
file-system-error|dm-0|XFS (dm-0): Metadata corruption detected at xfs_agi_verify+0x128/0x160, xfs_agi block 0x2
file-system-read-only|sdb2|BTRFS info (device sdb2: state E): forced readonly
file-system-error|sdb2|BTRFS error (device sdb2): bdev /dev/sdb2 errs: wr 4, rd 0, flush 0, corrupt 0, gen 0
file-system-read-only|sdd1|FAT-fs (sdd1): Filesystem has been set read-only
machine-check|CPU 2|mce: [Hardware Error]: CPU 2: Machine Check: 0 Bank 5: be00000000800400
memory-corrected|MC0|EDAC MC0: 1 CE memory read error on CPU_SrcID#0_MC#0_Chan#1_DIMM#0 (channel:1 slot:0)
memory-uncorrected|MC0|EDAC MC0: 1 UE memory scrubbing error on CPU_SrcID#0_MC#0_Chan#1_DIMM#0
memory-uncorrected|None|Memory failure: 0x12345: recovery action for dirty LRU page: Recovered
bus-error|0000:00:1c.0|pcieport 0000:00:1c.0: AER: Corrected error received: 0000:03:00.0
heat-limit|CPU3|CPU3: Package temperature is above threshold, cpu clock is throttled (total events = 7)
transmit-stuck|eth0|r8169 0000:03:00.0 eth0: NETDEV WATCHDOG: CPU: 3: transmit queue 0 timed out 5368 ms
machine-check|CPU 1|mce: [Hardware Error]: CPU 1: Machine Check Exception: 4 Bank 5: be00000000800400
out-of-memory|auk-count|Out of memory (oom_kill_allocating_task): Killed process 77 (auk-count) total-vm:9021284kB
processor-stuck|None|rcu: INFO: rcu_preempt self-detected stall on CPU
file-system-read-only|dm-1|XFS (dm-1): Corruption of on-disk metadata (0x10) detected at xfs_defer_finish (fs/xfs/x.c:9).  Shutting down filesystem.
heat-limit|CPU2|CPU2: Core temperature above threshold, cpu clock throttled (total events = 1)
out-of-memory|auk-count|Memory cgroup out of memory: Killed process 19344 (auk-count) total-vm:321792kB, anon-rss:204160kB
out-of-memory|heron notes|Out of memory: Killed process 812 (heron notes) total-vm:9021284kB, anon-rss:7210332kB
memory-asked-for|auk-count|auk-count invoked oom-killer: gfp_mask=0xcc0(GFP_KERNEL), order=0, oom_score_adj=0
hung-task|kworker/0:1|INFO: task kworker/0:1:1234 blocked for more than 120 seconds.
processor-stuck|CPU#1|watchdog: BUG: soft lockup - CPU#1 stuck for 22s! [tern-mapper:3310]
processor-stuck|None|rcu: INFO: rcu_preempt detected stalls on CPUs/tasks:
kernel-fault|unable to handle|BUG: unable to handle page fault for address: ffffb10000000000
graphics-reset|0000:00:02.0|i915 0000:00:02.0: [drm] GPU HANG: ecode 9:1:85dffffb, in tern-mapper [3310]
graphics-reset|gfx_0.0.0|[drm:amdgpu_job_timedout [amdgpu]] *ERROR* ring gfx_0.0.0 timeout, signaled seq=8, emitted seq=9
usb-reset|1-2|usb 1-2: reset high-speed USB device number 5 using xhci_hcd
device-came|1-2|usb 1-2: New USB device found, idVendor=1d6b, idProduct=0104, bcdDevice= 1.00
device-went|1-2.4|usb 1-2.4: USB disconnect, device number 7
usb-reset|1-2.4|usb 1-2.4: device descriptor read/64, error -71
over-current|usb1-port2|usb usb1-port2: over-current condition
network-link-down|enp3s0|r8169 0000:03:00.0 enp3s0: Link is Down
network-link-down|eno1|e1000e 0000:00:1f.6 eno1: NIC Link is Down
network-link-down|wlp2s0|wlp2s0: Connection to AP 02:00:00:00:01:00 lost
transmit-stuck|eth0|NETDEV WATCHDOG: eth0 (r8169): transmit queue 0 timed out
crash|heron notes|heron notes[2231]: segfault at 10 ip 00007f2a11 sp 00007ffe40 error 4 in libheron.so.3[7f2a10000000+9000]
crash|auk-count|traps: auk-count[77] general protection fault ip:5581 sp:7ffd error:0 in auk-count[5581+1000]
firmware|ACPI|ACPI BIOS Error (bug): Could not resolve symbol [\\_SB.GPP2.WLAN], AE_NOT_FOUND
"""  # noqa: E501
ORDINARY = """
ata1: SATA link up 6.0 Gbps (SStatus 133 SControl 300)
usb 1-2: new high-speed USB device number 5 using xhci_hcd
EXT4-fs (sda1): mounted filesystem with ordered data mode. Quota mode: none.
r8169 0000:03:00.0 enp3s0: Link is Up - 1Gbps/Full - flow control rx/tx
nvme nvme0: 8/0/0 default/read/poll queues
CPU2: Core temperature/speed normal (total events = 1)
BTRFS info (device sdb2): using crc32c (crc32c-intel) checksum algorithm
EDAC MC0: Giving out device to module skx_edac controller Skylake
"""

# lines of the kernel that hold names: of a program (15 bytes), its file, a control group, a mount
# point, a host and what a USB device calls itself
NAMED = (
    "{name}[77]: segfault at 10 ip 00007f2a11 sp 00007ffe40 error 4 in {rest}[55+1000]",
    "{name}[77]: segfault at 10 ip 00007f2a11 sp 00007ffe40 error 4 in {text}[55+1000]",
    "traps: {name}[77] general protection fault ip:55 sp:7f error:0 in {text}[55+1000]",
    "{name}[77] bad frame in sigreturn frame:1 ip:2 sp:3 orax:4 in {text}[55+1000]",
    "{name} (77): drop_caches: 3",
    "{name}(77): {text}",
    "{name} invoked oom-killer: gfp_mask=0xcc0(GFP_KERNEL), order=0, oom_score_adj=0",
    "{name}: page allocation failure: order:4, mode:0xcc0, cpuset={text},mems_allowed=0",
    "process '{text}' launched '/bin/{text}' with NULL argv: empty string added",
    "CPU: 0 PID: 77 Comm: {name} Not tainted 6.1.0 #1",
    "warning: `{name}' uses wireless",
    "oom-kill:constraint=CONSTRAINT_MEMCG,cpuset={text},oom_memcg=/{text},task={name},pid=7,uid=1000",
    "Tasks in /{text} are going to be killed due to memory.oom.group set",
    "Memory cgroup stats for /{text}:",
    "cgroup: fork rejected by pids controller in /{text}",
    "/{text}",
    "overlayfs: failed to resolve '{text}': -2",
    "FAT-fs (sdb1): mounted at {text}",
    "NFS: server {text} not responding",
    "Hardware name: {text}",
    "audit: type=1400 comm={text}",
    "usb 1-2: Product: {text}",
    "usb 1-2: Manufacturer: {text}",
    "usb 1-2: SerialNumber: {text}",
    "input: {text} as /devices/pci0000:00/0000:00:14.0/usb1/1-2/input/input7",
    "hid-generic 0003:1:2.3: input,hidraw0: USB HID v1.11 Keyboard [{text}] on usb-1/input0",
    "scsi 2:0:0:0: Direct-Access     {text} PQ: 0 ANSI: 6",
)
# what such a line is in truth
CLAIMED = ("crash", "memory-asked-for")


class Lines(unittest.TestCase):
    def test_each_class_is_known_by_its_line(self):
        seen = set()
        for row in LINES.strip().splitlines():
            kind, about, text = row.split("|", 2)
            seen.add(kind)
            with self.subTest(text=text):
                result = classify(LogLine(0.0, text))
                self.assertIsNotNone(result)
                self.assertEqual((kind, about), (result[0], str(result[1])))
        self.assertEqual(set(KERNEL_MESSAGE_KINDS), seen)

    def test_what_is_ordinary_is_none(self):
        for text in ORDINARY.strip().splitlines():
            with self.subTest(text=text):
                self.assertIsNone(classify(LogLine(0.0, text)))

    def test_names_that_a_user_chose_are_no_line_of_the_kernel(self):
        """Each class, as the name of a program, file, group, mount, host or USB device."""
        for row in LINES.strip().splitlines():
            kind, _, text = row.split("|", 2)
            # the kernel keeps 15 bytes of a program's name, from wherever in the line they are
            for begin in range(0, max(1, len(text) - 4)):
                name = text[begin : begin + 15]
                for form in NAMED:
                    line = form.format(name=name, rest=text[begin + 15 :], text=text[begin:])
                    result = classify(LogLine(0.0, line))
                    if result is not None and result[0] not in CLAIMED:
                        self.fail(f"{kind} from {line!r}: {result}")

    def test_a_part_that_was_torn_from_its_line_does_not_count(self):
        line = b"3,6,2500000,c;I/O error, dev sda, sector 1 op 0x0\n"
        self.assertIsNone(parse_log_record(line))

    def test_drives_that_are_none_do_not_fail(self):
        for device in ("loop3", "zram0", "sr0", "fd0", "nbd1"):
            line = f"I/O error, dev {device}, sector 0 op 0x0:(READ) flags 0x0 phys_seg 1"
            self.assertIsNone(classify(LogLine(0.0, line)))

    def test_what_a_program_wrote_into_the_log_does_not_count(self):
        self.assertIsNone(parse_log_record(b"11,5,100,-;I/O error, dev sda, sector 2048 op 0x0\n"))
        line = parse_log_record(b"3,6,2500000,-;I/O error, dev sda, sector 1\n SUBSYSTEM=block\n")
        self.assertEqual(LogLine(2.5, "I/O error, dev sda, sector 1"), line)


class Copies(unittest.TestCase):
    def setUp(self):
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.root = Root(self.folder)
        self.addCleanup(self.root.close)

    def put(self, name, data):
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        return path

    def test_a_log_is_read_on_from_where_it_ended(self):
        item = b"3,1,%d,-;I/O error, dev sda, sector 8 op 0x0:(READ)\n"
        path = self.put("dev/kmsg", item % 1_000_000 + item % 4_000_000)
        log = KernelLog(self.root)
        self.addCleanup(log.close)
        (first,) = log.read_new(10.0)
        self.assertEqual((2, 9.0, 6.0), (first.count, first.first_ago_s, first.last_ago_s))
        self.assertEqual([], log.read_new(11.0))
        with path.open("ab") as more:
            more.write(item % 12_000_000 + b"3,2,12500000,-;half a li")
        (second,) = log.read_new(13.0)
        self.assertEqual((1, 1.0), (second.count, second.last_ago_s))

    def test_a_missing_log_is_a_blind_spot_and_so_is_garbage(self):
        self.assertEqual([], KernelLog(self.root).read_new(1.0))
        self.put("dev/kmsg", b"\xff\xfe\n3,1,5,-;fine\n")
        log = KernelLog(self.root)
        self.addCleanup(log.close)
        self.assertEqual([], log.read_new(1.0))
        reasons = {item.reason for item in self.root.unread}
        self.assertEqual({"absent", "garbled"}, reasons)

    def test_a_start_without_an_orderly_end_before_it(self):
        def record(kind, user, at_s):
            return struct.pack(
                "=h2xi32s4s32s256s4xiii16s20x", kind, 0, b"~", b"", user, b"", 0, at_s, 0, b""
            )

        day = 86_400
        self.put(
            "var/log/wtmp",
            b"".join(
                (
                    record(2, b"reboot", 1_700_000_000),
                    record(1, b"runlevel", 1_700_000_010),
                    record(1, b"shutdown", 1_700_000_000 + day),
                    record(2, b"reboot", 1_700_000_060 + day),
                    record(7, b"isbister", 1_700_000_070 + day),
                    record(2, b"reboot", 1_700_000_000 + 2 * day),
                    record(2, b"reboot", 5),
                )
            ),
        )
        self.assertEqual(
            [None, True, False], [read_start.after_order for read_start in read_starts(self.root)]
        )
        self.put("var/log/wtmp", b"short")
        self.assertEqual([], read_starts(self.root))
        self.assertIn("garbled", {item.reason for item in self.root.unread})

    def test_starts_by_the_database_that_has_the_place_of_the_records(self):
        path = self.folder / "var/lib/wtmpdb/wtmp.db"
        path.parent.mkdir(parents=True)
        day, at_s = 86_400, 1_700_000_000
        with closing(sqlite3.connect(path)) as base:
            # as wtmpdb makes it
            base.execute(
                "CREATE TABLE wtmp(ID INTEGER PRIMARY KEY, Type INTEGER, User TEXT NOT NULL, Login"
                " INTEGER, Logout INTEGER, TTY TEXT, RemoteHost TEXT, Service TEXT) STRICT"
            )
            base.executemany(
                "INSERT INTO wtmp (Type, User, Login, Logout, RemoteHost) VALUES (?, ?, ?, ?, ?)",
                (
                    (1, "reboot", at_s * 10**6, (at_s + 900) * 10**6, "6.1.0-9"),
                    (3, "isbister", (at_s + 60) * 10**6, None, None),
                    (1, "reboot", (at_s + day) * 10**6, None, "6.1.0-10"),
                    (1, "reboot", (at_s + 2 * day) * 10**6, None, "6.1.0-10"),
                ),
            )
            base.commit()
        self.assertEqual(
            [
                ComputerStart(at_s, None, "6.1.0-9"),
                ComputerStart(at_s + day, True, "6.1.0-10"),
                ComputerStart(at_s + 2 * day, False, "6.1.0-10"),
            ],
            read_starts(self.root),
        )
        self.put("var/lib/wtmpdb/wtmp.db", b"SQLite format 3\0" + bytes(4000))
        self.assertEqual([], read_starts(self.root))
        self.assertIn("failed", {item.reason for item in self.root.unread})

    def test_starts_by_the_heads_of_the_journal_where_nothing_else_tells(self):
        def head(boot, written_s, after_s):
            return struct.pack(
                "<8s48x16s112x8xQQ", b"LPKSHHRH", boot, int(written_s * 1e6), int(after_s * 1e6)
            )

        at_s, folder = 1_700_000_000, "var/log/journal/0123"
        self.put(f"{folder}/system@1.journal", head(b"a" * 16, at_s + 500, 500) + bytes(99))
        self.put(f"{folder}/system@2.journal", head(b"a" * 16, at_s + 900, 900))
        self.put(f"{folder}/system.journal", head(b"b" * 16, at_s + 5000, 1000))
        self.put(f"{folder}/user-1000.journal", head(b"c" * 16, at_s + 5000, 1))
        self.put(f"{folder}/system@3.journal", b"LPKSHHRH")
        self.assertEqual(
            [ComputerStart(at_s, None), ComputerStart(at_s + 4000, None)], read_starts(self.root)
        )

    def test_a_newer_kernel_of_the_same_flavour_waits(self):
        for running, others, wanted in (
            ("6.9.4-2-amd64", ["6.12.31-amd64"], "6.12.31-amd64"),
            ("6.12.31-amd64", ["6.9.4-2-amd64"], None),
            ("6.12.31-amd64", ["6.12.40-rt-amd64", "6.13.1-cloud"], "6.12.40-rt-amd64"),
            ("6.12.31-amd64", ["6.13.1-cloud"], None),
        ):
            with self.subTest(running=running), TemporaryDirectory() as folder:
                self.folder = Path(folder)
                self.put("proc/sys/kernel/osrelease", running.encode())
                for release in (running, *others):
                    self.put(f"boot/vmlinuz-{release}", b"")
                    self.put(f"lib/modules/{release}/modules.order", b"")
                root = Root(self.folder)
                result = read_pending(root)
                root.close()
                self.assertEqual(wanted, result and result.newest_kernel)
