"""Builds the disk of the computer in the bottle from Debian's packages.

Run as root by ``make bottle``; it needs mmdebstrap, e2fsprogs and acpica-tools. What it makes lies
in a folder of its own (``BOTTLE``, .bottle by default) and is used again until this file changes.
"""

import hashlib
import os
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path

HERE = Path(__file__).parent
PLACE = Path(os.environ.get("BOTTLE", HERE.parent / ".bottle"))
SUITE, MIRROR = "bookworm", "http://deb.debian.org/debian"
PACKAGES = (
    "linux-image-amd64",
    "systemd",
    "systemd-sysv",
    "dbus",
    "dbus-user-session",
    "libpam-systemd",
    "openssh-server",
    "openssh-client",
    "python3",
    "python3-venv",
    "kmod",
    "udev",
    "iproute2",
    "iw",
    "e2fsprogs",
    "dmsetup",
    "i2c-tools",
    "nfs-kernel-server",
    "nfs-common",
    "procps",
    "sudo",
)
DISK_BYTES = 3 << 30
LONGEST_S = 1200
PEOPLE = ("orla", "tam")
HOST = "skerrow"


def stamp():
    """What the disk is made of, so that it is made anew when that changes."""
    files = (
        Path(__file__),
        HERE / "agent.py",
        HERE / "hardware.asl",
        HERE.parent / "pyproject.toml",
    )
    return hashlib.sha256(b"".join(file.read_bytes() for file in files)).hexdigest()


def build():
    """Make disk, kernel and tables where they are not there yet, and return their folder."""
    made = PLACE / "stamp"
    if made.exists() and made.read_text() == stamp():
        return PLACE
    if os.geteuid() != 0:
        raise SystemExit(
            "bottle: building it needs an administrator (it makes a file system of root's)"
        )
    for tool in ("mmdebstrap", "mke2fs", "iasl", "qemu-system-x86_64"):
        if shutil.which(tool) is None:
            raise SystemExit(
                f"bottle: {tool} is not installed; CONTRIBUTING.md names what it takes"
            )
    shutil.rmtree(PLACE, ignore_errors=True)
    PLACE.mkdir(parents=True)
    root = PLACE / "root"
    said("unpacking Debian's packages (two minutes)")
    run(
        "mmdebstrap",
        "--quiet",
        "--variant=minbase",
        f"--include={','.join(PACKAGES)}",
        SUITE,
        str(root),
        MIRROR,
    )
    said("installing what the program needs")
    install_dependencies(root)
    furnish(root)
    for kind in ("vmlinuz", "initrd.img"):
        (result,) = (root / "boot").glob(f"{kind}-*")
        shutil.copy(result, PLACE / kind)
    run("iasl", "-p", str(PLACE / "hardware"), str(HERE / "hardware.asl"))
    said("making the disk")
    disk = PLACE / "disk.img"
    with disk.open("wb") as file:
        file.truncate(DISK_BYTES)
    run("mke2fs", "-q", "-t", "ext4", "-d", str(root), str(disk))
    shutil.rmtree(root)
    made.write_text(stamp())
    return PLACE


def install_dependencies(root):
    """Put the declared dependencies into an environment of the guest's, by the guest's own pip."""
    declared = tomllib.loads((HERE.parent / "pyproject.toml").read_text())["project"][
        "dependencies"
    ]
    wheels = root / "tmp" / "wheels"
    run(
        sys.executable,
        "-m",
        "pip",
        "download",
        "--quiet",
        "--only-binary",
        ":all:",
        "--python-version",
        "3.11",
        "-d",
        str(wheels),
        *declared,
    )
    inside(root, "python3", "-m", "venv", "/opt/dunmist")
    inside(
        root,
        "/opt/dunmist/bin/pip",
        "install",
        "--quiet",
        "--no-index",
        "--find-links",
        "/tmp/wheels",
        *declared,
    )
    shutil.rmtree(wheels)


def furnish(root):
    """Name the computer, let people in, and start the agent with it."""
    (root / "etc/hostname").write_text(HOST + "\n")
    (root / "etc/hosts").write_text(f"127.0.0.1 localhost {HOST}\n")
    (root / "etc/fstab").write_text("/dev/vda / ext4 defaults 0 1\n")
    for person in PEOPLE:
        inside(root, "useradd", "--create-home", "--shell", "/bin/bash", person)
    agent = root / "usr/local/sbin/bottle-agent"
    agent.write_text("#!/usr/bin/python3\n" + (HERE / "agent.py").read_text())
    agent.chmod(0o755)
    (root / "etc/systemd/system/bottle-agent.service").write_text(
        "[Unit]\nDescription=takes orders through the neck of the bottle\n"
        "[Service]\nExecStart=/usr/local/sbin/bottle-agent\nOOMScoreAdjust=-1000\nNice=-5\n"
        "Restart=on-failure\nRestartSec=2\n"
        "[Install]\nWantedBy=multi-user.target\n"
    )
    inside(root, "systemctl", "--quiet", "enable", "bottle-agent.service")
    # the start waits for it, and it has ended when anybody looks
    (root / "etc/systemd/system/tide-check.service").write_text(
        "[Unit]\nDescription=checks the tide tables\nBefore=multi-user.target\n"
        "[Service]\nType=oneshot\nExecStart=/bin/sleep 60\n"
        "[Install]\nWantedBy=multi-user.target\n"
    )
    inside(root, "systemctl", "--quiet", "enable", "tide-check.service")
    # what makes a slow computer slower without being part of any case
    for unit in (
        "apt-daily.timer",
        "apt-daily-upgrade.timer",
        "e2scrub_all.timer",
        "fstrim.timer",
        "nfs-server.service",
        "rpcbind.service",
        "rpcbind.socket",
    ):
        inside(root, "systemctl", "--quiet", "mask", unit)


def inside(root, *command):
    """Run a command of the guest's in its folder."""
    run("chroot", str(root), *command)


def run(*command):
    """Run a command to its end, and say what it said when it fails."""
    done = subprocess.run(
        command, check=False, capture_output=True, text=True, errors="replace", timeout=LONGEST_S
    )
    if done.returncode:
        raise SystemExit(
            f"bottle: {command[0]} failed: {(done.stderr or done.stdout).strip()[-800:]}"
        )


def said(what):
    """Tell how far it is."""
    print(f"bottle: {what}", file=sys.stderr, flush=True)


if __name__ == "__main__":
    build()
