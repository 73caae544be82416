"""Search for input that ends a reader otherwise than in its own error.

``pip install -e . atheris`` and then ``python benchmarks/fuzz_inputs.py TARGET CORPUS
-max_total_time=600``. TARGET is a name in ``TARGETS``; the other options are libFuzzer's. The
fuzzer's bytes stand for a collector file, the stream of a remote program, the kernel log, settings,
a message to the marks socket, or lists of packages.
"""

import contextlib
import gzip
import io
import os
import socket
import sqlite3
import struct
import sys
import tempfile
import tomllib
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["dunmist"]):
    import dunmist
    from dunmist.captures import CaptureReader, load_rules
    from dunmist.computer.kernel_log import LogLine, parse_log_record, summed
    from dunmist.computer.packages import read_packages
    from dunmist.computer.parsing import ParseError
    from dunmist.computer.root import Root
    from dunmist.errors import DunmistError
    from dunmist.jobs.capture import CaptureOptions
    from dunmist.jobs.remote_capture import capture_from
    from dunmist.recorder.marks import BYTES_MOST, Marks
    from dunmist.remote import Garbled, MemoryRoot, Mirror, RemoteClock, Stream
    from dunmist.series.sensors import load_corrections
    from dunmist.thresholds import load_thresholds

FOLDER = Path(tempfile.mkdtemp(prefix="dunmist-fuzz-"))
MARK = b"0123456789abcdef"
BEGIN = b"@" + MARK + b" begin 1 4242 1 100 1924952400 +0100 0\n"
MACHINE = b"""/proc/uptime:100.00 1.00
/proc/stat:cpu0 1 0 10 100 0 0 0 0 0 0
/proc/meminfo:MemTotal: 1000000 kB
/proc/4242/stat:4242 (auk) S 1 1 1 0 -1 0 0 0 0 0 5 5 0 0 20 0 1 0 50 1000 10
/proc/4242/status:Uid:\t0
"""


def carried(data):
    """Make a capture of a file: the fuzzer's lines stand in both ticks."""
    text = BEGIN
    for number in range(2):
        tick = b" %d 10%d.00\n" % (number, number)
        text += b"@" + MARK + b" tick" + tick + MACHINE + data + b"\n@" + MARK + b" end" + tick
    for name, whole in (("inside", text), ("whole", BEGIN + data)):
        path = FOLDER / f"{name}.txt"
        path.write_bytes(whole)
        with contextlib.suppress(DunmistError):
            capture_from(path, CaptureOptions(FOLDER / "x.jsonl.gz", 1.0, 1.0, force=True))


def far(data):
    """Take a remote stream as frames, and as a capture that a remote program sends."""
    with contextlib.suppress(Garbled):
        stream = Stream(data.splitlines(keepends=True))
        root = MemoryRoot("far")
        clock = RemoteClock(stream.begun, stream.frames(), Mirror(root), list)
        while clock.begin():
            clock.now()
    for sent in (data, gzip.compress(data, 1)):
        with (
            contextlib.suppress(DunmistError),
            CaptureReader(Path("far"), io.BytesIO(sent)) as reader,
        ):
            list(reader.lines())


def kernel_log(data):
    """Take lines of the log; no name in one may be a line of another class."""
    with contextlib.suppress(ParseError):
        parse_log_record(data)
    text = data.decode("utf-8", "backslashreplace").replace("\n", "")
    crash = f"{text[:15]}[7]: segfault at 0 ip 0 in {text}[0+1]"
    lines = (text, f"usb 1-2: Product: {text}", crash)
    result = summed([LogLine(float(at_s), line) for at_s, line in enumerate(lines, 1)], 9.0)
    for item in result:
        if item.last_ago_s == 7.0 or (item.last_ago_s == 6.0 and item.kind != "crash"):
            raise AssertionError(f"forged: {item}")


def settings(data):
    """Read each of the files that a user may have."""
    path = FOLDER / "settings.toml"
    path.write_bytes(data)
    load_rules.cache_clear()
    for load in (load_rules, load_thresholds, load_corrections):
        with contextlib.suppress(DunmistError):
            load(path)


def marks(data):
    """Say something to the socket of marks."""
    if not STATE:
        STATE.append(Marks(FOLDER / "marks"))
    with socket.socket(socket.AF_UNIX) as other:
        other.settimeout(5)
        other.connect(str(FOLDER / "marks" / "marks.sock"))
        if data:
            other.send(data[: 2 * BYTES_MOST])
            if other.recv(20) not in (b"done\n", b"too many\n"):
                raise AssertionError("no answer")
    for item in STATE[0].taken():
        if not item.words.isprintable():
            raise AssertionError(repr(item))


STATE: list[Marks] = []


def packages(data):
    """Read lists of dpkg, and headers in a database of rpm."""
    middle = len(data) // 2
    for name in ("dpkg/info/tern.list", "dpkg/status"):
        path = FOLDER / "deb/var/lib" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data[:middle] if name.endswith("list") else data[middle:])
    database = FOLDER / "rpm/var/lib/rpm/rpmdb.sqlite"
    database.parent.mkdir(parents=True, exist_ok=True)
    if data[:1] == b"\0":  # the file itself, from its second page on
        whole = bytearray(database.read_bytes()) if database.exists() else bytearray(8192)
        whole[4096 : 4096 + len(data)] = data
        database.write_bytes(bytes(whole))
    else:
        database.unlink(missing_ok=True)
        with contextlib.closing(sqlite3.connect(database)) as base:
            base.execute("CREATE TABLE Packages (hnum INTEGER PRIMARY KEY, blob BLOB)")
            base.execute("CREATE TABLE Basenames (key TEXT, hnum INTEGER)")
            base.execute("INSERT INTO Packages VALUES (1, ?)", (data,))
            base.execute("INSERT INTO Basenames VALUES ('tern', 1)")
            base.commit()
    for folder in ("deb", "rpm"):
        root = Root(FOLDER / folder)
        read_packages(root, ["/usr/bin/tern", "/bin/sh"])
        root.close()


def seeds(target):
    """Return inputs to begin with: what a well-meaning sender would have sent."""
    package = Path(dunmist.__file__).parent
    tick = b" 0 100.00\n"
    stream = BEGIN + b"@" + MARK + b" tick" + tick + MACHINE + b"@" + MARK + b" end" + tick
    if target is carried:
        yield from (
            MACHINE,
            b"exe:lrwx 1 0 0 0 Nov 27 /proc/4242/exe -> /bin/x\n",
            b"fd:/proc/4242/fd:\nfd:lrwx 1 0 0 64 Nov 27 3 -> socket:[7]\n",
            b"cmd:/proc/4242/cmdline:auk\1--token\1x\1\ndf:/dev/sda1 9 5 4 50% /\n",
            b"/proc/4242/task/7/schedstat:1 2 3\n/sys/class/hwmon/hwmon0/name:x\n",
        )
    elif target is far:
        yield from (
            stream,
            stream + b"@" + MARK + b" done\n",
            b'{"kind":"header","format":"dunmist-capture","version":"1.0"}\n',
        )
    elif target is kernel_log:
        text = (package / "computer" / "kernel_messages.toml").read_text(encoding="utf-8")
        yield from (entry["word"].encode() for entry in tomllib.loads(text)["message"])
        yield b"3,6,2500000,-;I/O error, dev sda, sector 2048 op 0x1:(WRITE)\n"
    elif target is settings:
        yield from (
            b"[cpu]\nbusy = 0.5\n",
            b'[[sensor]]\ndriver = "x"\nchannel = "y"\n',
            (package / "captures" / "secrets.toml").read_bytes(),
        )
    elif target is packages:
        header = struct.pack(">II", 1, 5) + struct.pack(">IIII", 1000, 6, 0, 1) + b"tern\0"
        yield from (header, b"/.\n/usr/bin/tern\nPackage: tern\nVersion: 1\n")
    else:
        yield from (b"it froze", b"\xff\x1b[2J")


TARGETS = {item.__name__: item for item in (carried, far, kernel_log, settings, marks, packages)}


def main():
    """Search until libFuzzer's own limits end it."""
    if len(sys.argv) < 2 or sys.argv[1] not in TARGETS:
        raise SystemExit(f"name a target: {', '.join(TARGETS)}")
    target = TARGETS[sys.argv.pop(1)]
    corpus = next((Path(item) for item in sys.argv[1:] if not item.startswith("-")), None)
    for number, data in enumerate(seeds(target) if corpus else ()):
        (corpus / f"seed-{number}").write_bytes(data)
    os.environ.setdefault("PYTHONWARNINGS", "error")
    atheris.Setup(sys.argv, target)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
