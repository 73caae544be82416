"""Each reader against text and bytes in the kernel's form: whole, older, newer and broken.

Where a row has fewer fields than the newest kernel writes, it is that of an older one.
"""

import struct
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from dunmist.computer import (
    ParseError,
    autostart,
    boot,
    control_groups,
    cpus,
    disks,
    drive_health,
    file_systems,
    firmware,
    graphics,
    kernel_log,
    links,
    locks,
    log_writers,
    memory,
    netlink,
    power,
    process_details,
    processes,
    rpm_database,
    sensors,
    socket_diag,
    socket_text,
    task_exits,
    terminals,
)
from dunmist.computer.utmp import parse_login_records
from dunmist.simulation import ModelComputer, load_scenario
from dunmist.simulation.drive_health import health_files
from dunmist.simulation.peripherals import smbios_table
from dunmist.simulation.user_space import utmp

OLD_DISK = b"   8       0 sda 100 1 2000 50 60 2 700 30 1 75 80\n"
NEW_DISK = OLD_DISK[:-1] + b" 5 0 64 7 9 11\n"
NET_DEV = (
    b"Inter-|   Receive                                                |  Transmit\n"
    b" face |bytes    packets errs drop fifo frame compressed multicast|bytes    packets\n"
    b"    lo: 10 1 0 0 0 0 0 0 10 1 0 0 0 0 0 0\n"
    b"enp3s0:1000 9 2 3 0 0 0 4 500 8 5 6 0 7 0 0\n"
)
SNMP = b"Ip: Forwarding\nIp: 1\nTcp: InSegs OutSegs RetransSegs\nTcp: 90 80 7\n"
INTERRUPTS = (
    b"            CPU0       CPU1       \n"
    b"  44:         10        200  IR-PCI-MSI 327680-edge      xhci_hcd\n"
    b" LOC:       5000       6000   Local timer interrupts\n ERR:          3\n"
)
MOUNTINFO = (
    b"22 1 8:1 / / rw,relatime shared:1 - ext4 /dev/sda1 rw,errors=remount-ro\n"
    b"23 22 0:21 / /proc rw,nosuid - proc proc rw\n"
    b"40 22 8:3 / /srv/two\\040words ro,relatime - ext4 /dev/sda3 ro\n"
    b"41 22 8:1 /snap /var/snap rw - ext4 /dev/sda1 rw\n"
)
TCP = (
    b"  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout\n"
    b"   0: 0100007F:1267 00000000:0000 0A 00000000:00000003 00:00000000 00000000 1004 0 21034 1\n"
    b"   1: 0E0010AC:9C44 020010AC:03E1 01 00000010:00000000 02:0000 00000000     0  0 21035 2\n"
)
TCP6 = (
    b"  sl  local_address                         remote_address                        st\n"
    b"   0: 00000000000000000000000001000000:0277 00000000000000000000000000000000:0000 0A "
    b"00000000:00000000 00:00000000 00000000     0        0 777 1\n"
)
UNIX = (
    b"Num       RefCount Protocol Flags    Type St Inode Path\n"
    b"0000000000000000: 00000002 00000000 00010000 0001 01   900 /run/tern socket\n"
    b"0000000000000000: 00000003 00000000 00000000 0001 03   901\n"
)
UEVENT = (
    b"POWER_SUPPLY_NAME=BAT0\nPOWER_SUPPLY_TYPE=Battery\nPOWER_SUPPLY_STATUS=Not charging\n"
    b"POWER_SUPPLY_CHARGE_FULL_DESIGN=5200000\nPOWER_SUPPLY_CHARGE_FULL=3900000\n"
    b"POWER_SUPPLY_CURRENT_NOW=-810000\nPOWER_SUPPLY_SERIAL_NUMBER=00123\n"
)
FDINFO = (
    b"pos:\t0\nflags:\t02100002\ndrm-driver:\tamdgpu\ndrm-client-id:\t12\ndrm-pdev:\t0000:06:00.0\n"
    b"drm-memory-vram:\t20480 KiB\ndrm-engine-gfx:\t123456789 ns\n"
    b"drm-engine-capacity-gfx:\t1\ndrm-engine-dec:\t11 ns\n"
)
DESKTOP = (
    b"# made by hand\n[Desktop Entry]\nName=Tide tables\nName[nb]=Tidevann\n"
    b"Exec=/opt/skerrow/bin/tide %u\nHidden=false\n\n[Desktop Action x]\nExec=other\n"
)
CRONTAB = (
    b"SHELL=/bin/sh\n# m h dom mon dow user command\n*/5 * * * *\troot\ttern-count --all\n"
    b"@reboot tides /opt/skerrow/bin/mast\n17 3 * * 1-5 root\n"
)
ROLLUP = (
    b"55d0-7ffc ---p 00000000 00:00 0 [rollup]\nRss:  5000 kB\nPss:  3000 kB\nPss_Anon: 9 kB\n"
    b"Private_Clean:  100 kB\nPrivate_Dirty:  2000 kB\nSwapPss:  7 kB\nLocked:  0 kB\n"
)
ROUTE = (
    b"Iface\tDestination\tGateway \tFlags\tRefCnt\tUse\tMetric\tMask\t\tMTU\tWindow\tIRTT\n"
    b"enp3s0\t00000000\t010010AC\t0003\t0\t0\t100\t00000000\t0\t0\t0\n"
    b"enp3s0\t000010AC\t00000000\t0001\t0\t0\t100\t00FFFFFF\t0\t0\t0\n"
)
LOCKS = (
    b"1: POSIX  ADVISORY  WRITE 3568 fd:00:2531452 0 EOF\n"
    b"2: FLOCK  ADVISORY  WRITE 700 00:14:16041 0 EOF\n"
    b"2: -> FLOCK  ADVISORY  WRITE 701 00:14:16041 0 EOF\n"
    b"2:  -> FLOCK  ADVISORY  WRITE 702 00:14:16041 0 EOF\n"
    b"3: OFDLCK ADVISORY  READ -1 00:06:10 0 EOF\n"
)
SWAPS = b"Filename\tType\tSize\tUsed\tPriority\n/dev/zram0  partition\t2048\t512\t100\n"


def taskstats(version=13, size=416, **values):
    """Return a struct taskstats with fields at their offsets in include/uapi/linux/taskstats.h."""
    record = bytearray(size)
    struct.pack_into("=H", record, 0, version)
    record[80:84] = b"tern"
    for offset, form, value in values.values():
        struct.pack_into(form, record, offset, value)
    return bytes(record)


RECORD = taskstats(
    delay=(24, "=Q", 7000),
    run=(72, "=Q", 9000),
    uid=(120, "=I", 1004),
    tid=(128, "=I", 31),
    ppid=(132, "=I", 20),
    elapsed=(144, "=Q", 55),
    user=(152, "=Q", 8),
    system=(160, "=Q", 4),
    read=(248, "=Q", 4096),
    written=(256, "=Q", 8192),
    tgid=(368, "=I", 30),
)
MODEL = ModelComputer(load_scenario("worn-spinner"))


def exit_message(record):
    stats = netlink.encode_attribute(3, record)
    pid = netlink.encode_attribute(1, struct.pack("=I", 31))
    return bytes(4) + netlink.encode_attribute(4, pid + stats)


class Texts(unittest.TestCase):
    def test_disks_of_older_and_newer_kernels(self):
        old, new = (disks.parse_diskstats(line)[0] for line in (OLD_DISK, NEW_DISK))
        self.assertEqual(
            ("sda", 100, 2000, 50, 60, 700, 30, 1, 75, 80),
            tuple(getattr(old, name) for name in old.__struct_fields__[:10]),
        )
        self.assertEqual(
            (None, None, 5, 7, 9, 11),
            (old.discards, old.flush_ms, new.discards, new.discard_ms, new.flushes, new.flush_ms),
        )
        self.assertEqual("bfq", disks.parse_scheduler(b"none mq-deadline [bfq]\n"))
        self.assertEqual("none", disks.parse_scheduler(b"none\n"))

    def test_links(self):
        link = links.parse_net_dev(NET_DEV)[1]
        self.assertEqual(
            ("enp3s0", 1000, 9, 2, 3, 500, 8, 5, 6, 7),
            tuple(getattr(link, name) for name in link.__struct_fields__),
        )
        self.assertEqual(
            {"TcpInSegs": 90, "TcpOutSegs": 80, "TcpRetransSegs": 7}, links.parse_tcp_counters(SNMP)
        )
        self.assertEqual(["enp3s0"], links.parse_default_links(ROUTE))
        self.assertEqual(
            {"wlp4s0": -61},
            links.parse_wireless(
                b"Inter-| sta\n face | tus\nwlp4s0: 0000   49.  -61.  -256        0      0\n"
            ),
        )

    def test_interrupts_are_added_up_over_processors(self):
        self.assertEqual(
            {
                "44 IR-PCI-MSI 327680-edge xhci_hcd": 210,
                "LOC Local timer interrupts": 11000,
                "ERR": 3,
            },
            cpus.parse_interrupts(INTERRUPTS),
        )

    def test_mounts(self):
        result = {
            line.point: line for line in map(file_systems.parse_mount, MOUNTINFO.splitlines())
        }
        self.assertEqual({"/", "/proc", "/srv/two words", "/var/snap"}, set(result))
        self.assertEqual((True, False), (result["/srv/two words"].read_only, result["/"].read_only))

    def test_sockets_as_text(self):
        listening, talking = socket_text.parse_inet_table(TCP, "tcp")
        self.assertEqual(
            ("127.0.0.1", 4711, None, 1004, 21034, "listen", 3),
            (
                listening.facts.local,
                listening.facts.local_port,
                listening.facts.remote_port,
                listening.facts.uid,
                listening.facts.inode,
                listening.state,
                listening.receive_queue_bytes,
            ),
        )
        self.assertEqual(
            ("172.16.0.2", 993, "established"),
            (talking.facts.remote, talking.facts.remote_port, talking.state),
        )
        six = next(socket_text.parse_inet_table(TCP6, "tcp"))
        self.assertEqual(("::1", 631), (six.facts.local, six.facts.local_port))
        self.assertEqual(
            ["/run/tern socket"], [item.facts.local for item in socket_text.parse_unix_table(UNIX)]
        )

    def test_batteries_without_their_serial_number(self):
        battery = power.parse_power_supply(UEVENT)
        self.assertEqual(
            ("battery", "not charging", 3900000, -810000, None),
            (
                battery.kind,
                battery.status,
                battery.charge_full,
                battery.current_now,
                battery.energy_full,
            ),
        )
        self.assertNotIn("00123", repr(battery))

    def test_graphics_use_of_a_descriptor(self):
        use = graphics.parse_fdinfo(FDINFO, 5)
        self.assertEqual(
            (5, "0000:06:00.0 12", {"gfx": 123456789, "dec": 11}, 20480 << 10),
            (use.process, use.client, use.engines_ns, use.memory_bytes),
        )
        self.assertIsNone(graphics.parse_fdinfo(b"pos:\t0\nflags:\t02\n", 5))
        self.assertEqual(1800, graphics.parse_current_clock(b"0: 500Mhz\n1: 1800Mhz *\n"))

    def test_what_starts_by_itself(self):
        keys = autostart.parse_desktop_entry(DESKTOP)
        self.assertEqual(("Tide tables", "/opt/skerrow/bin/tide %u"), (keys["Name"], keys["Exec"]))
        jobs = list(autostart.parse_crontab(CRONTAB, names_user=True))
        self.assertEqual(
            [
                ("*/5 * * * *", "root", "tern-count --all"),
                ("@reboot", "tides", "/opt/skerrow/bin/mast"),
            ],
            jobs,
        )

    def test_dear_parts_of_a_process(self):
        rollup = process_details.parse_rollup(ROLLUP, 4)
        self.assertEqual(
            (5000, 3000, 2100, 7, 0),
            (
                rollup.rss_kib,
                rollup.pss_kib,
                rollup.private_kib,
                rollup.swap_pss_kib,
                rollup.locked_kib,
            ),
        )
        limits = b"Limit  Soft  Hard  Units\nMax open files            1024   524288   files\n"
        self.assertEqual(1024, process_details.parse_descriptor_limit(limits))
        self.assertEqual(
            (4096, 1000),
            processes.parse_io(
                b"rchar: 9\nread_bytes: 4096\nwrite_bytes: 5096\ncancelled_write_bytes: 4096\n"
            ),
        )
        self.assertIsNone(processes.parse_login_uid(b"4294967295"))
        self.assertEqual(
            (None, "nfs_wait"),
            (process_details.parse_waits_in(b"0"), process_details.parse_waits_in(b"nfs_wait")),
        )

    def test_who_waits_for_whose_lock(self):
        self.assertEqual(
            [(701, 700), (702, 700)],
            [(parse_lock.waiter, parse_lock.holder) for parse_lock in locks.parse_locks(LOCKS)],
        )

    def test_quotas_and_swap(self):
        self.assertEqual(
            (0.5, None),
            (
                control_groups.parse_cpu_max(b"50000 100000\n"),
                control_groups.parse_cpu_max(b"max 100000\n"),
            ),
        )
        area = memory.parse_swaps(SWAPS)[0]
        self.assertEqual(
            ("/dev/zram0", 2048 << 10, 512 << 10, 100),
            (area.name, area.size_bytes, area.used_bytes, area.priority),
        )
        self.assertEqual(300, memory.parse_mm_stat(b"1000 200 300 0 400 0 0 0 0\n"))


class Records(unittest.TestCase):
    """Binary forms."""

    def test_a_task_that_ended(self):
        result = task_exits.parse_exit(memoryview(exit_message(RECORD)))
        self.assertEqual(
            (30, 31, 20, 1004, "tern", 55, 9000, 12, 7000, 4096, 8192),
            (
                result.pid,
                result.tid,
                result.ppid,
                result.uid,
                result.name,
                result.elapsed_us,
                result.run_ns,
                result.counted_us,
                result.delay_ns,
                result.read_bytes,
                result.write_bytes,
            ),
        )

    def test_an_older_record_is_refused(self):
        for record in (taskstats(version=11), taskstats(size=360)):
            with self.assertRaises(ParseError):
                task_exits.parse_exit(memoryview(exit_message(record)))

    def test_firmware_tables(self):
        result = firmware.parse_smbios(smbios_table(MODEL))
        self.assertEqual(
            ("Skerrow Workshop", "Razorbill E2", "03/02/2029", 2, 64 << 30),
            (result.maker, result.model, result.firmware_date, result.slots, result.capacity_bytes),
        )
        full, empty = result.modules
        self.assertEqual(
            ("DIMM A", 4 << 30, "DDR4", "DIMM", 3200, 3200),
            (
                full.slot,
                full.size_bytes,
                full.kind,
                full.form_factor,
                full.rated_mtps,
                full.configured_mtps,
            ),
        )
        self.assertEqual((0, None), (empty.size_bytes, empty.kind))

    def test_sizes_of_modules_in_all_their_forms(self):
        for size, extended, expected in (
            (0x8000 | 512, 0, 512 << 10),
            (4096, 0, 4096 << 20),
            (0x7FFF, 65536, 64 << 30),
            (0xFFFF, 0, None),
        ):
            body = struct.pack("<HHHHHBBBBBHH", 1, 2, 64, 64, size, 9, 0, 0, 0, 34, 0, 4800)
            body += bytes(5) + struct.pack("<I", extended)
            table = struct.pack("<BBH", 17, 4 + len(body), 9) + body + b"\0\0"
            with self.subTest(size=size):
                self.assertEqual(expected, firmware.parse_smbios(table).modules[0].size_bytes)

    def test_logins(self):
        login = parse_login_records(utmp(MODEL))[0]
        self.assertEqual(("isbister", ":0"), (login.user, login.line))


PARSERS = (
    disks.parse_diskstats,
    disks.parse_scheduler,
    links.parse_net_dev,
    links.parse_tcp_counters,
    links.parse_default_links,
    links.parse_default_links_6,
    links.parse_wireless,
    cpus.parse_interrupts,
    file_systems.parse_mount,
    file_systems.parse_sizes,
    power.parse_power_supply,
    graphics.parse_current_clock,
    autostart.parse_desktop_entry,
    process_details.parse_descriptor_limit,
    process_details.parse_status_details,
    process_details.parse_waits_in,
    processes.parse_io,
    processes.parse_login_uid,
    control_groups.parse_cpu_stat,
    control_groups.parse_cpu_max,
    locks.parse_locks,
    memory.parse_swaps,
    memory.parse_mm_stat,
    firmware.parse_smbios,
    parse_login_records,
    kernel_log.parse_log_record,
    boot.parse_boot,
    lambda data: drive_health.parse_health("sda", data),
    rpm_database.parse_rpm_header,
    sensors.parse_number,
    sensors.parse_text,
    lambda data: process_details.parse_rollup(data, 1),
    lambda data: graphics.parse_fdinfo(data, 1),
    lambda data: list(autostart.parse_crontab(data, names_user=True)),
    lambda data: list(socket_text.parse_inet_table(data, "tcp")),
    lambda data: list(socket_text.parse_unix_table(data)),
    log_writers.parse_log,
    log_writers.parse_journal,
    terminals.parse_terminal_index,
    lambda data: list(netlink.parse_messages(data)),
    lambda data: list(netlink.parse_attributes(memoryview(data))),
    lambda data: socket_diag.parse_inet(memoryview(data), "tcp"),
    lambda data: socket_diag.parse_unix(memoryview(data)),
    lambda data: task_exits.parse_exit(memoryview(data)),
)
# RFC 3164, the same with the time of RFC 3339, and lines that are nobody's
LOG = b"""\
Dec  1 09:01:07 skua-desk gull-count[812]: ledge 4: 17
Dec  1 09:01:07 skua-desk gull-count[812]: message repeated 9 times: [ ledge 4: 17]
2026-12-01T09:01:08.125+01:00 skua-desk kernel: usb 1-1: new device
<13>Dec 11 09:01:09 skua-desk ringing/smtpd[77]: connect
 a line that goes on: with [1]: this
skua-desk gull-count[812]: without a time
"""
JOURNAL = b"""\
{"_COMM":"gull-count","_PID":"812","SYSLOG_IDENTIFIER":"counts"}
{"SYSLOG_IDENTIFIER":"kernel"}
{"_COMM":[103,0],"_PID":["1","2"],"SYSLOG_IDENTIFIER":"tern"}
{"_COMM":null}
"""
SAMPLES = (
    LOG,
    JOURNAL,
    NEW_DISK,
    NET_DEV,
    SNMP,
    INTERRUPTS,
    MOUNTINFO,
    TCP,
    TCP6,
    UNIX,
    UEVENT,
    FDINFO,
    DESKTOP,
    CRONTAB,
    ROLLUP,
    ROUTE,
    SWAPS,
    smbios_table(MODEL),
    utmp(MODEL),
    b"3,6,2500000,-;I/O error, dev sda, sector 1\n",
    "".join(text for _, text in health_files(MODEL)).encode(),
    b"FinishTimestampMonotonic=30000000\nchain a.mount 1 2\n",
    exit_message(RECORD),
    netlink.encode_message(20, 0, exit_message(RECORD)),
    b"\x02\x0a\x00\x00" + bytes(90),
)


def spoilt(text):
    """Return texts that differ from one in the kernel's form by a few bytes, or are cut short."""
    return st.builds(
        lambda at, more, end: (text[:at] + more + text[at + len(more) :])[:end],
        st.integers(0, len(text)),
        st.binary(max_size=12),
        st.integers(0, len(text)),
    )


class Logs(unittest.TestCase):
    def test_who_wrote_each_line(self):
        lines = {("gull-count", 812): 10, ("kernel", 0): 1, ("ringing/smtpd", 77): 1}
        self.assertEqual(lines, log_writers.parse_log(LOG))

    def test_who_wrote_each_entry(self):
        entries = {("gull-count", 812): 1, ("kernel", 0): 1, ("tern", 0): 1}
        self.assertEqual(entries, log_writers.parse_journal(JOURNAL))

    def test_a_terminal_has_the_number_that_others_know_it_by(self):
        text = b"pos:\t0\nflags:\t02100002\nmnt_id:\t24\nino:\t91\ntty-index:\t12\n"
        self.assertEqual(12, terminals.parse_terminal_index(text))


class AnyBytes(unittest.TestCase):
    @settings(max_examples=400, deadline=None)
    @given(st.one_of(st.binary(max_size=200), st.sampled_from(SAMPLES).flatmap(spoilt)))
    def test_a_parser_fails_only_with_its_own_error(self, data):
        for parser in PARSERS:
            try:
                parser(data)
            except ParseError:
                continue

    @given(st.binary(max_size=300))
    def test_a_netlink_walk_always_ends(self, data):
        try:
            count = sum(1 for _ in netlink.parse_attributes(memoryview(data)))
        except ParseError:
            return
        self.assertLessEqual(count, len(data) // 4)
