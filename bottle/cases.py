"""The cases of the bottle: what is started inside, and what is then true.

``start`` and ``stop`` are scripts of the shell. In them ``unit NAME [-p Property=…] program …``
runs a program as a service of that name, ``gone NAME …`` ends services. Programs are ``load.py``
under the name that stands there. A case is about what its truth says; battery, restart and clock of
the bottle are as they are in all of them (``ALWAYS``).
"""

from dataclasses import dataclass, field

# true of the emulated computer itself: its battery is worn and drains, it was just started
ALWAYS = {"battery-worn", "battery-drain", "recent-restart", "clock-unsynchronised"}


@dataclass(frozen=True)
class Case:
    """One case.

    ``culprits`` may each be named first. ``or_limiting`` is what limits, by them, where a state
    of the case that comes and goes lasts for most of the capture; else nobody is to blame.
    ``must`` are findings that must be there, with a word that their subject or text has;
    ``may`` are others that are true. ``names`` are words that must stand somewhere in verdict,
    evidence or steps, ``not_named`` programs that must be no culprit. ``facts`` are words of
    the inventory, or of the ``last`` survey, by their path. ``exact`` are figures of a unit that are held against the
    kernel's own count. ``then`` is what must succeed after the capture. ``meanwhile`` is what
    happens during the capture: for N seconds the computer stands still (``@stop N``) or sleeps
    (``@sleep N``). ``began`` is a file with the uptime at which the first culprit began, or what
    the finding of the kind ``began_of`` tells; its bounds of since when must hold that.
    ``changed`` is a word of the change that its evidence must name. ``doing`` has words of what
    programs must be said to do, by their names.
    """

    name: str
    start: str = ":"
    stop: str = ":"
    limiting: str | None = None
    culprits: tuple[str, ...] = ()
    must: dict[str, str] = field(default_factory=dict)
    may: frozenset[str] = frozenset()
    names: tuple[str, ...] = ()
    not_named: tuple[str, ...] = ()
    span_s: int = 12
    settle_s: float = 2.0
    priority: int = -10
    person: str | None = None
    exact: dict[str, str] = field(default_factory=dict)
    meanwhile: str | None = None
    facts: dict[str, object] = field(default_factory=dict)
    then: str | None = None
    or_limiting: str | None = None
    began: str | None = None
    began_of: str | None = None
    changed: str | None = None
    doing: dict[str, str] = field(default_factory=dict)


DISK = frozenset({"disk-slow", "disk-saturated", "blocked-on-disk"})
BUSY = frozenset({"cpu-hog", "steady-background", "core-bound", "other-user-load"})

PROGRAMS = (
    "bird-map",
    "call-list",
    "chart-view",
    "crab-count",
    "echo-feed",
    "egg-census",
    "far-end",
    "film-copy",
    "gate-one",
    "gate-two",
    "key-keeper",
    "log-book",
    "map-print",
    "moth-count",
    "nest-sums",
    "photo-sort",
    "ring-list",
    "seal-count",
    "song-fit",
    "tape-send",
    "tide-feed",
    "tide-table",
    "wader-count",
    "wing-fit",
)
# what the scripts may call
SHELL = r"""
unit() {
  name=$1; shift; more=
  while [ "$1" = -p ]; do more="$more -p $2"; shift 2; done
  systemd-run --quiet --unit="$name" $more -- "$@"
}
gone() {
  for name in "$@"; do
    systemctl kill -s KILL "$name" 2>/dev/null; systemctl stop "$name" 2>/dev/null
    systemctl reset-failed "$name" 2>/dev/null
  done
  true
}
netns() {
  ip netns add far; ip link add near0 type veth peer name far0 netns far
  ip addr add 10.9.0.1/24 dev near0; ip link set near0 up
  ip -n far addr add 10.9.0.2/24 dev far0; ip -n far link set far0 up; ip -n far link set lo up
}
far() { ip netns exec far "$@" > /dev/null 2>&1 & }
package() {
  place=$(mktemp -d); mkdir -p $place/DEBIAN $place/usr/bin
  printf 'Package: %s\nVersion: %s\nArchitecture: all\nMaintainer: x <x@skerrow.invalid>\nDescription: x\n' \
    $1 $2 > $place/DEBIAN/control
  cp /usr/local/bin/$1 $place/usr/bin/$1
  if [ -n "$3" ]; then
    mkdir -p $place/etc/systemd/system; echo /etc/systemd/system/$1.service > $place/DEBIAN/conffiles
    printf '[Service]\nExecStart=/usr/bin/%s %s\n' $1 "$3" > $place/etc/systemd/system/$1.service
  fi
  dpkg-deb -Zgzip -b $place /tmp/$1.deb > /dev/null; dpkg -i --force-confnew /tmp/$1.deb > /dev/null
  rm -rf $place
}
nonetns() { pkill -f far-end; ip link del near0; ip netns del far; true; }
board() {
  modprobe i2c-dev; [ -e /sys/module/i2c_stub ] || modprobe i2c-stub chip_addr=0x48,0x2c
  bus=$(i2cdetect -l | awk '/stub/ { sub("i2c-", "", $1); print $1 }')
  [ "$2" = lm85 ] && i2cset -y $bus 0x2c 0x3e 0x41 && i2cset -f -y $bus 0x2c 0x3f 0x60
  modprobe $2; echo $2 $1 > /sys/bus/i2c/devices/i2c-$bus/new_device
}
noboard() {
  bus=$(i2cdetect -l | awk '/stub/ { sub("i2c-", "", $1); print $1 }')
  for one in 0x48 0x2c; do echo $one > /sys/bus/i2c/devices/i2c-$bus/delete_device; done
  modprobe -r lm85 lm75 i2c-stub
}
"""

START_HANGS = (
    "printf '[Service]\\nType=notify\\nTimeoutStartSec=600\\nExecStart=/usr/local/bin/tide-feed nap\\n'"
    " > /run/systemd/system/tide-feed.service; systemctl daemon-reload; systemctl start"
    " --no-block tide-feed; sleep 3"
)
STOP_HANGS = (
    "printf '[Service]\\nTimeoutStopSec=600\\nExecStart=/usr/local/bin/tide-feed nap\\n"
    "ExecStop=/bin/sleep 500\\n' > /run/systemd/system/tide-feed.service; systemctl"
    " daemon-reload; systemctl start tide-feed; systemctl stop --no-block tide-feed; sleep 3"
)
# its group may use so much of a CPU, or again as much as it likes
SLOW_MANAGER = "systemctl set-property --runtime init.scope CPUQuota="

CASES = (
    Case(
        "calm, with the message bus",
        facts={
            "firmware.model": "Bench Two",
            "firmware.maker": "Skerrow Workshop",
            "firmware.modules.0.rated_mtps": 2400,
            "firmware.modules.0.size_bytes": 1536 << 20,
        },
        must={"battery-worn": "BAT0"},
        names=("42 %", "9.5 W"),
    ),
    Case("calm, seen by a person", person="orla", priority=0),
    Case(
        "three programs of different weight on two CPUs",
        "unit wader-count -p CPUWeight=400 wader-count spin 2; unit egg-census egg-census"
        " spin; unit nest-sums nest-sums spin",
        "gone wader-count egg-census nest-sums",
        "cpu",
        ("wader-count", "egg-census", "nest-sums"),
        may=BUSY,
        exact={"cores": "wader-count"},
    ),
    Case(
        "three programs with three at low priority, of another group",
        "for one in wader-count egg-census nest-sums; do unit $one $one spin; done; for one in"
        " moth-count seal-count crab-count; do unit $one -p Nice=19 $one spin; done",
        "gone wader-count egg-census nest-sums moth-count seal-count crab-count",
        "cpu",
        ("wader-count", "egg-census", "nest-sums", "moth-count", "seal-count", "crab-count"),
        may=BUSY,
    ),
    Case(
        "three programs with three at low priority, of the same group",
        "unit station sh -c 'wader-count spin & egg-census spin & nest-sums spin & nice -n 19"
        " moth-count spin & nice -n 19 seal-count spin & nice -n 19 crab-count spin & wait'",
        "gone station",
        "cpu",
        ("wader-count", "egg-census", "nest-sums", "station"),
        may=BUSY,
        not_named=("moth-count", "seal-count", "crab-count"),
    ),
    Case(
        "low priority alone fills the computer",
        "unit moth-count -p Nice=19 -p CPUWeight=1 moth-count spin 2",
        "gone moth-count",
        may=BUSY | {"hot-while-idle"},
        not_named=("moth-count",),
    ),
    Case(
        "one thread of many",
        "unit tide-table tide-table one_of_many",
        "gone tide-table",
        "core",
        ("tide-table",),
        may=BUSY,
    ),
    Case(
        "short programs one after the other",
        "unit ring-list sh -c 'while :; do /bin/true; done'",
        "gone ring-list",
        None,
        may=BUSY | {"spawn-storm", "kernel-busy"},
        must={"steady-background": "ring-list"},
    ),
    Case(
        "a quota runs out",
        "unit map-print -p CPUQuota=20% map-print spin",
        "gone map-print",
        must={"quota-limited": "map-print"},
        may=BUSY,
    ),
    Case(
        "a slow disk with one reader, delays not accounted",
        "sysctl -q kernel.task_delayacct=0; unit film-copy film-copy read /dev/sdb 200",
        "gone film-copy",
        "disk",
        ("film-copy",),
        may=DISK,
    ),
    Case(
        "a slow disk with one reader, delays accounted",
        "sysctl -q kernel.task_delayacct=1; unit film-copy -p IOAccounting=yes film-copy read /dev/sdb 200",
        "gone film-copy; sysctl -q kernel.task_delayacct=0",
        "disk",
        ("film-copy",),
        may=DISK,
        exact={"disk": "film-copy"},
    ),
    Case(
        "a slow disk with a heavy reader and a victim",
        "unit film-copy sh -c 'film-copy read /dev/sdb 200 & film-copy read /dev/sdb 200 & film-copy"
        " read /dev/sdb 200 & film-copy read /dev/sdb 200 & wait'; sleep 1;"
        " unit log-book log-book read /dev/sdb 1",
        "gone film-copy log-book",
        "disk",
        ("film-copy",),
        may=DISK,
        names=("log-book",),
    ),
    Case(
        "a slow disk with a writer that waits for it",
        "mkdir -p /mnt/slow; mkfs.ext4 -q -E lazy_itable_init=0 -F /dev/sdb; mount /dev/sdb /mnt/slow;"
        " unit log-book log-book write /mnt/slow/book 16",
        "gone log-book; umount /mnt/slow",
        "disk",
        ("log-book",),
        may=DISK,
    ),
    Case(
        "full file systems and no inodes left",
        "mkdir -p /mnt/few /mnt/full /mnt/nearly; mkfs.ext4 -q -F -N 64 /dev/sda; mount /dev/sda"
        " /mnt/few; touch $(seq -f /mnt/few/%g 9999) 2>/dev/null; for one in full nearly;"
        " do truncate -s 60M /root/$one.img; mkfs.ext4 -q -F -m 0 /root/$one.img; mount -o loop"
        " /root/$one.img /mnt/$one; done; dd if=/dev/zero of=/mnt/full/sound bs=1M status=none"
        " 2>/dev/null; dd if=/dev/zero of=/mnt/nearly/sound bs=1M count=50 status=none; true",
        "umount /mnt/few /mnt/full /mnt/nearly",
        "storage",
        must={"storage-full": "/mnt/full", "inodes-full": "/mnt/few"},
        settle_s=0,
    ),
    Case(
        "a service that crashes again and again",
        "unit tag-reader -p Restart=always -p RestartSec=1 -p StartLimitIntervalSec=0 sh -c"
        " 'sleep 1; exit 3'",
        "gone tag-reader",
        must={"service-restarting": "tag-reader"},
        settle_s=6,
    ),
    Case(
        "a unit that failed",
        "unit ring-print -p RemainAfterExit=yes sh -c 'exit 4'; sleep 1",
        "systemctl reset-failed",
        must={"service-failed": "ring-print"},
    ),
    Case(
        "a service that was frozen",
        "unit chart-view chart-view serve 8099; sleep 1; systemctl freeze chart-view",
        "systemctl thaw chart-view; gone chart-view",
        must={"group-frozen": "chart-view.service"},
        names=("echo 0 > /sys/fs/cgroup/system.slice/chart-view.service/cgroup.freeze",),
    ),
    Case(
        "a service at its limit of tasks",
        "unit gate-one -p TasksMax=24 gate-one children 40",
        "gone gate-one",
        must={"limit-near": "gate-one.service"},
        names=("24 tasks of 24", "could not start"),
    ),
    Case(
        "a service at its limit of bytes read",
        "unit film-copy film-copy read /dev/sdb 200; sleep 1;"
        " systemctl set-property --runtime film-copy 'IOReadBandwidthMax=/dev/sdb 20K'",
        "gone film-copy",
        must={"io-limited": "film-copy.service"},
        names=("sdb",),
        settle_s=6,
    ),
    Case(
        "a service at its limit of requests",
        "unit film-copy film-copy read /dev/sdb 200; sleep 1;"
        " systemctl set-property --runtime film-copy 'IOReadIOPSMax=/dev/sdb 4'",
        "gone film-copy",
        must={"io-limited": "film-copy.service"},
        names=("sdb",),
        settle_s=6,
    ),
    Case(
        "a service that is bound to one CPU",
        "unit moth-count -p CPUAffinity=0 moth-count spin 3",
        "gone moth-count",
        "core",
        ("moth-count",),
        must={"bound-to-cpus": "moth-count"},
        may=BUSY,
        names=("may run on 1 of 2 logical CPUs",),
    ),
    Case(
        "files that lie in memory",
        "dd if=/dev/zero of=/dev/shm/sound bs=1M count=500 status=none",
        "rm /dev/shm/sound",
        must={"memory-in-files": "/dev/shm"},
        names=("du -xah -- /dev/shm",),
    ),
    Case(
        "a program at real-time priority with two ordinary ones",
        "unit wader-count -p CPUSchedulingPolicy=rr -p CPUSchedulingPriority=20 wader-count spin;"
        " unit egg-census egg-census spin 2",
        "gone wader-count egg-census",
        "cpu",
        ("wader-count", "egg-census"),
        may=BUSY,
        names=("real-time priority 20", "chrt -a -o -p 0"),
    ),
    Case("a start that hangs", START_HANGS, "gone tide-feed", must={"service-stuck": "tide-feed"}),
    Case("a stop that hangs", STOP_HANGS, "gone tide-feed", must={"service-stuck": "tide-feed"}),
    Case(
        "a start that hangs, at a slow manager",
        f"{START_HANGS}; {SLOW_MANAGER}3%",
        f"{SLOW_MANAGER}; gone tide-feed",
        must={"service-stuck": "tide-feed"},
        may=frozenset({"quota-limited"}),
    ),
    Case(
        "a stop that hangs, at a slow manager",
        f"{STOP_HANGS}; {SLOW_MANAGER}3%",
        f"{SLOW_MANAGER}; gone tide-feed",
        must={"service-stuck": "tide-feed"},
        may=frozenset({"quota-limited"}),
    ),
    Case(
        "the start waited for a unit that has ended",
        must={"slow-start": "tide-check.service"},
        names=("tide-check.service",),
    ),
    Case(
        "a disk at its limit of requests, and who syncs each write",
        "mkdir -p /mnt/slow; mkfs.ext4 -q -E lazy_itable_init=0 -F /dev/sdb; mount /dev/sdb /mnt/slow;"
        " unit film-copy film-copy read /dev/sdb 100; unit log-book log-book write /mnt/slow/book 4",
        "gone film-copy log-book; umount /mnt/slow",
        "disk",
        ("log-book", "film-copy"),
        may=DISK,
        names=("log-book", "film-copy"),
    ),
    Case(
        "a child that may open no more files", "unit gate-one gate-one sandboxed", "gone gate-one"
    ),
    Case(
        "a log service that one program floods",
        "systemctl is-active systemd-journald; unit seal-count seal-count chatter; sleep 4",
        "gone seal-count",
        "core",
        ("seal-count", "systemd-journald"),
        may=BUSY,
        names=("of the last lines in the log", "seal-count"),
        or_limiting="cpu",
    ),
    Case(
        "a lock that is held",
        "unit key-keeper key-keeper lock /tmp/key; sleep 2; unit gate-one gate-one lock /tmp/key;"
        " unit gate-two gate-two lock /tmp/key",
        "gone key-keeper gate-one gate-two",
        must={"lock-wait": "key"},
        names=("key-keeper",),
    ),
    Case(
        "descriptors run out",
        "unit call-list -p LimitNOFILE=600 call-list descriptors 560",
        "gone call-list",
        may=frozenset({"descriptor-leak", "limit-near"}),
        must={"limit-near": "call-list"},
        settle_s=10,
    ),
    Case(
        "memory that is held and nothing else",
        "unit bird-map -p MemoryAccounting=yes bird-map hold 200 1",
        "gone bird-map",
        may=BUSY,
        exact={"memory": "bird-map"},
        settle_s=8,
    ),
    Case(
        "memory grows",
        "unit photo-sort photo-sort grow 10 600",
        "gone photo-sort",
        may=frozenset({"memory-leak", "memory-growing", "memory-hog"}),
        must={"memory-growing": "photo-sort"},
        span_s=20,
    ),
    Case(
        "a group's memory limit makes it page",
        "unit bird-map -p MemoryMax=90M bird-map hold 130",
        "gone bird-map",
        "memory",
        (),
        may=frozenset({"memory-limited", "paging-storm", "memory-hog"}) | BUSY | DISK,
        must={"memory-limited": "bird-map"},
        settle_s=8,
    ),
    Case(
        "out of memory in a group",
        "swapoff -a; unit wing-fit -p MemoryMax=60M -p Restart=always -p RestartSec=1"
        " -p StartLimitIntervalSec=0 wing-fit grow 60 400; sleep 2",
        "gone wing-fit; swapon /dev/nvme0n1",
        must={"oom-kill": "wing-fit"},
        may=BUSY | {"service-restarting", "memory-limited", "memory-growing", "service-failed"},
        not_named=(),
        names=("wing-fit",),
        span_s=15,
    ),
    Case(
        "another person works here",
        "loginctl enable-linger tam; sleep 4; systemd-run --quiet --collect --uid=tam --unit=song-fit"
        " -p PAMName=login -p TTYPath=/dev/tty3 -p StandardInput=tty /usr/local/bin/song-fit spin",
        "gone song-fit; loginctl disable-linger tam; loginctl terminate-user tam",
        "core",
        ("song-fit",),
        may=BUSY,
        names=("tam",),
        settle_s=5,
    ),
    Case(
        "a transfer that goes on",
        "netns; far /usr/local/bin/far-end serve 7000; sleep 3;"
        " unit tape-send -p IPAccounting=yes tape-send send 10.9.0.2 7000 2000",
        "gone tape-send; nonetns",
        must={"steady-transfer": "tape-send"},
        may=BUSY,
        exact={"sent": "tape-send"},
    ),
    Case(
        "segments are lost on one link",
        "netns; ip link set near0 gso_max_segs 1; tc qdisc add dev near0 root netem loss 6%; far"
        " /usr/local/bin/far-end serve 7000; sleep 3;"
        " unit tape-send tape-send send 10.9.0.2 7000 300",
        "gone tape-send; nonetns",
        must={"link-errors": "near0"},
        may=BUSY | {"steady-transfer"},
        names=("10.9.0.2",),
    ),
    Case(
        "a link that is full",
        "netns; tc qdisc add dev near0 root tbf rate 8mbit burst 16kb limit 60kb; far"
        " /usr/local/bin/far-end serve 7000; sleep 3; unit tape-send tape-send send 10.9.0.2 7000",
        "gone tape-send; nonetns",
        "link",
        ("tape-send",),
        must={"link-saturated": "near0"},
        may=BUSY | {"steady-transfer", "link-errors"},
    ),
    Case(
        "a link that has been full since a known moment",
        "netns; tc qdisc add dev near0 root tbf rate 8mbit burst 16kb limit 60kb; far"
        ' /usr/local/bin/far-end serve 7000; sleep 3; unit tape-send sh -c \'sleep 30; cut -d" " -f1'
        " /proc/uptime > /run/began; exec tape-send send 10.9.0.2 7000'; sleep 60",
        "gone tape-send; nonetns",
        "link",
        ("tape-send",),
        must={"link-saturated": "near0"},
        may=BUSY | {"steady-transfer", "link-errors"},
        began="/run/began",
        began_of="link-saturated",
    ),
    Case(
        "a long line with losses limits who sends",
        "netns; ip link set near0 gso_max_segs 1; tc qdisc add dev near0 root netem delay 100ms"
        " loss 2%; far /usr/local/bin/far-end serve 7000; sleep 3;"
        " unit tape-send tape-send send 10.9.0.2 7000",
        "gone tape-send; nonetns",
        may=BUSY | {"link-errors"},
        doing={"tape-send": "the line limits it (round trip 10"},
        span_s=20,
    ),
    Case(
        "the other end reads slowly",
        "netns; far /usr/local/bin/far-end serve 7000 400; sleep 3;"
        " unit tape-send tape-send send 10.9.0.2 7000; sleep 8",
        "gone tape-send; nonetns",
        may=BUSY,
        doing={"tape-send": "the other end takes no more"},
    ),
    Case(
        "who sends has little to send",
        "netns; far /usr/local/bin/far-end serve 7000; sleep 3;"
        " unit tape-send tape-send send 10.9.0.2 7000 400",
        "gone tape-send; nonetns",
        may=BUSY,
        doing={"tape-send": "it has nothing to send"},
    ),
    Case(
        "it reads slowly what others send",
        "netns; unit call-list call-list serve 7000 400; sleep 3; far /usr/local/bin/far-end send"
        " 10.9.0.1 7000; sleep 8",
        "gone call-list; nonetns",
        may=BUSY | {"open-port"},
        doing={"call-list": "it reads too slowly what arrives"},
    ),
    Case(
        "what it gets comes slowly",
        "netns; unit call-list call-list serve 7000; sleep 3; far /usr/local/bin/far-end send"
        " 10.9.0.1 7000 400; sleep 4",
        "gone call-list; nonetns",
        may=BUSY | {"open-port"},
        doing={"call-list": "the other end or the line"},
    ),
    Case(
        "datagrams",
        "netns; unit echo-feed echo-feed datagrams 10.9.0.2 9 300",
        "gone echo-feed; nonetns",
        may=BUSY | {"steady-transfer"},
    ),
    Case(
        "a fan stands still and a board is hot",
        "board 0x48 lm75; i2cset -f -y $bus 0x48 0 0x004e w; board 0x2c lm85; i2cset -f -y $bus 0x2c 0x25"
        " 78; i2cset -f -y $bus 0x2c 0x28 0xff; i2cset -f -y $bus 0x2c 0x29 0xff; i2cset -f -y $bus 0x48 3 0x0050 w; sleep 2",
        "noboard",
        must={"fan-stopped": "fan1", "overheating": "lm75"},
        names=("78",),
        settle_s=4,
    ),
    Case(
        "paging by a hog, with a victim",
        "unit song-fit song-fit hold 100 0.2; sleep 4; unit bird-map bird-map hold 1450",
        "gone bird-map song-fit",
        "memory",
        ("bird-map",),
        may=BUSY | DISK | {"paging-storm", "memory-hog", "memory-short"},
        must={"paging-storm": ""},
        settle_s=45,
        span_s=20,
        priority=-15,
    ),
    Case(
        "a network file system that does not answer",
        "mkdir -p /srv/shared /mnt/far; systemctl unmask -q rpcbind.service rpcbind.socket"
        " nfs-server.service; echo '/srv/shared *(rw,fsid=0,no_subtree_check,no_root_squash)' >"
        " /etc/exports; systemctl start nfs-server; mount -t nfs4 -o hard,timeo=50 127.0.0.1:/"
        " /mnt/far; : > /mnt/far/list; rpc.nfsd 0; unit chart-view chart-view look /mnt/far/list;"
        " sleep 6",
        "rpc.nfsd 2; gone chart-view; sleep 2; umount -f -l /mnt/far",
        must={"file-system-unanswered": "/mnt/far", "stuck-process": "rpc_wait_bit_killable"},
        names=("127.0.0.1", "chart-view", "kill -KILL"),
        settle_s=0,
        # the forced end that is advised does reach it, while the server is still gone
        then="pkill -KILL -x chart-view; sleep 2; ! pgrep -x chart-view",
    ),
    Case(
        "a drive that says that it fails",
        "unit failing-drive failing-drive; sleep 8",
        "systemctl stop failing-drive",
        must={"drive-warns": "sdc"},
        names=("Save what matters", "1984 sectors"),
        settle_s=4,
    ),
    Case(
        "it began a minute after its start to use a CPU",
        'unit wader-count sh -c \'sleep 50; cut -d" " -f1 /proc/uptime > /run/began; exec'
        " wader-count spin 4'; sleep 70",
        "gone wader-count",
        "cpu",
        ("wader-count",),
        may=BUSY,
        began="/run/began",
    ),
    Case(
        "it began a minute after its start to read a disk",
        'unit tide-table sh -c \'sleep 40; cut -d" " -f1 /proc/uptime > /run/began; exec'
        " tide-table read /dev/sda 64'; unit map-print map-print read /dev/sda 64; sleep 70",
        "gone tide-table map-print",
        "disk",
        ("tide-table", "map-print"),
        may=BUSY | DISK,
    ),
    Case(
        "a program that was updated just now",
        "package nest-sums 1.0-1; package nest-sums 1.1-2; unit nest-sums /usr/bin/nest-sums spin 4",
        "gone nest-sums; dpkg -P nest-sums",
        "cpu",
        ("nest-sums",),
        may=BUSY,
        changed="package nest-sums was upgraded from 1.0-1 to 1.1-2",
    ),
    Case(
        "a unit that was changed by hand",
        "printf '[Service]\\nExecStart=/usr/local/bin/moth-count spin 4\\n' >"
        " /etc/systemd/system/moth-count.service; systemctl daemon-reload; systemctl start moth-count",
        "gone moth-count; rm /etc/systemd/system/moth-count.service; systemctl daemon-reload",
        "cpu",
        ("moth-count",),
        may=BUSY,
        changed="moth-count.service was changed",
    ),
    Case(
        "a unit of a package that was changed by hand since",
        "package seal-count 2.0-1 'spin 3'; sed -i 's/spin 3/spin 4/'"
        " /etc/systemd/system/seal-count.service; systemctl daemon-reload; systemctl start seal-count",
        "gone seal-count; dpkg -P seal-count; systemctl daemon-reload",
        "cpu",
        ("seal-count",),
        may=BUSY,
        changed="seal-count.service was changed by hand",
    ),
    Case(
        "a unit that its package changed",
        "package crab-count 2.0-1 'spin 3'; sleep 1.5; package crab-count 2.0-2 'spin 4'; systemctl"
        " daemon-reload; systemctl start crab-count",
        "gone crab-count; dpkg -P crab-count; systemctl daemon-reload",
        "cpu",
        ("crab-count",),
        may=BUSY,
        changed="2.0-1 to 2.0-2",
    ),
    Case(
        "an update that is innocent, as the trouble is older",
        'package song-fit 1.0-1; unit song-fit sh -c \'cut -d" " -f1 /proc/uptime > /run/began; exec'
        " /usr/bin/song-fit spin 4'; sleep 20; package song-fit 1.1-1",
        "gone song-fit; dpkg -P song-fit",
        "cpu",
        ("song-fit",),
        may=BUSY | {"deleted-executable"},
        began="/run/began",
        changed="still runs the old version",
    ),
    Case(
        "memory that grows since a known moment",
        'unit bird-map sh -c \'sleep 30; cut -d" " -f1 /proc/uptime > /run/began; exec bird-map'
        " grow 6 900'; sleep 50",
        "gone bird-map",
        must={"memory-growing": "bird-map"},
        may=BUSY,
        span_s=30,
        began="/run/began",
        began_of="memory-growing",
    ),
    Case(
        "a full file system, by a file that was deleted",
        "mkdir -p /srv/room; mount -t tmpfs -o size=100M room /srv/room; unit tape-send sh -c 'exec"
        " 7>/srv/room/tape; head -c 97M /dev/zero >&7; rm /srv/room/tape; exec tape-send nap'; sleep 3",
        "gone tape-send; umount /srv/room",
        "storage",
        must={"storage-full": "/srv/room/tape"},
        names=("tape-send", "close-deleted"),
    ),
    Case(
        "two radios that hear each other",
        "modprobe mac80211_hwsim radios=2; sleep 1; for one in wlan0 wlan1; do iw dev $one set type ibss;"
        " ip link set $one up; iw dev $one ibss join skua 2412 fixed-freq 02:11:22:33:44:55; done; sleep 12;"
        " ip addr add 10.8.0.1/24 dev wlan0; ip addr add 10.8.0.2/24 dev wlan1; sleep 1",
        "modprobe -r mac80211_hwsim; true",
        facts={"last.radio.0.link": "wlan0", "last.radio.1.link": "wlan1"},
        then="iw dev wlan0 station dump > /tmp/stations; dunmist view links /tmp/case.jsonl.gz --json |"
        ' python3 -c \'import json, re, sys; links = {link["link"]: link for link in'
        ' json.load(sys.stdin)["links"]}; told = open("/tmp/stations").read(); print(told);'
        ' assert int(re.search(r"signal avg:\\s*(-\\d+)", told)[1]) =='
        ' links["wlan0"]["signal_dbm"]\'',
    ),
    Case(
        "a gateway that is not there",
        "netns; ip route add default via 10.9.0.77 dev near0 metric 50; timeout 4 python3 -c 'import"
        ' socket; socket.create_connection(("192.0.2.9", 80))\'; true',
        "nonetns",
        must={"gateway-silent": "10.9.0.77"},
        names=("check-gateway",),
    ),
    Case(
        "a service without a process is stopped by its name, and started again",
        "printf '[Service]\\nType=oneshot\\nRemainAfterExit=yes\\nExecStart=/bin/true\\n' >"
        " /etc/systemd/system/lamp-test.service; systemctl daemon-reload; systemctl start lamp-test",
        "systemctl stop lamp-test; rm /etc/systemd/system/lamp-test.service; systemctl daemon-reload",
        may=BUSY,
        then="dunmist fix do /tmp/case.jsonl.gz stop-service --named lamp-test --yes &&"
        " ! systemctl is-active lamp-test && dunmist fix undo && systemctl is-active lamp-test",
    ),
    Case("the computer sleeps meanwhile", meanwhile="@sleep 20", span_s=20),
    Case("the computer is stopped meanwhile", meanwhile="@stop 25", span_s=15, settle_s=2),
    Case(
        "out of memory of the whole computer",
        "swapoff -a; unit wing-fit -p Restart=always -p RestartSec=3 -p StartLimitIntervalSec=0 wing-fit"
        # before the first time the kernel tries for a minute to do without
        " fill 3000; for n in $(seq 100); do dmesg | grep -q 'Out of memory: Killed.*wing-fit' && break;"
        " sleep 1; done",
        "gone wing-fit; swapon /dev/nvme0n1",
        # it fills the memory, and the kernel tries to do without for seconds or for half a minute
        None,
        ("wing-fit",),
        or_limiting="memory",
        must={"oom-kill": "wing-fit"},
        span_s=45,
        names=("the computer",),
        may=BUSY
        | {
            "service-failed",
            "service-restarting",
            "memory-short",
            "memory-growing",
            "memory-hog",
            "kernel-hung",
        },
    ),
    # the last one: the kernel's log keeps its messages
    Case(
        "a mapped device with errors",
        "modprobe dm-mod; printf '0 2048 linear /dev/sda 0\\n2048 2048 error\\n' | dmsetup create"
        " song-store; sleep 1; for n in 1 2 3; do dd if=/dev/mapper/song-store of=/dev/null bs=4k"
        " skip=256 count=4 2>/dev/null; done; true",
        "dmsetup remove song-store",
        must={"mapping-errors": "dm-0"},
        names=("dmsetup status",),
    ),
)
