"""An OpenSSH server of a test's own: on loopback, with keys and a configuration in its folder."""

import getpass
import os
import shutil
import socket
import subprocess
from contextlib import closing
from pathlib import Path

SSHD = shutil.which("sshd", path=f"{os.environ.get('PATH', '')}:/usr/sbin")


def start(case, address="127.0.0.1", prefix=()):
    """Start it until the end of the test, and return its port and the folder of its keys."""
    with closing(socket.socket()) as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    keys = case.folder / "keys"
    keys.mkdir(mode=0o700)
    for name in ("host", "user"):
        subprocess.run(
            ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", keys / name], check=True
        )
    (keys / "sshd").write_text(
        f"Port {port}\nListenAddress {address}\nHostKey {keys}/host\nStrictModes no\n"
        f"AuthorizedKeysFile {keys}/user.pub\nUsePAM no\nPidFile none\nPermitRootLogin yes\n"
        "PasswordAuthentication no\nSubsystem sftp internal-sftp\n"
    )
    (keys / "ssh").write_text(
        f"Host far\n HostName {address}\n Port {port}\n User {getpass.getuser()}\n"
        f" IdentityFile {keys}/user\n UserKnownHostsFile {keys}/known\n BatchMode yes\n"
        " StrictHostKeyChecking accept-new\n"
    )
    if not os.geteuid():
        Path("/run/sshd").mkdir(exist_ok=True)
    server = subprocess.Popen([*prefix, SSHD, "-D", "-f", keys / "sshd", "-E", keys / "log"])
    case.addCleanup(server.wait)
    case.addCleanup(server.terminate)
    return server, port, keys
