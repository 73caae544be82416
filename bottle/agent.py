"""Runs inside the bottle: takes orders from outside, one JSON object a line, and answers each.

An order is a script of the shell with the person who runs it, a file to write, or a file to read.
Nothing else reaches the computer, so that no network, no keys and no login are part of a case.
"""

import base64
import json
import os
import signal
import subprocess
import time

PORT = "/dev/virtio-ports/bottle"


def answer(order):
    if "write" in order:
        with open(order["write"], "wb") as file:
            file.write(base64.b64decode(order["data"]))
        os.chmod(order["write"], order.get("mode", 0o644))
        return {}
    if "read" in order:
        with open(order["read"], "rb") as file:
            return {"data": base64.b64encode(file.read()).decode()}
    command = ["sh", "-c", order["script"]]
    if order.get("person"):
        command = ["runuser", "-l", order["person"], "-c", order["script"]]
    running = subprocess.Popen(
        command,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        stdin=subprocess.DEVNULL,
        start_new_session=True,
        cwd="/root",
        env={**os.environ, "HOME": "/root", "LANG": "C.UTF-8", "TERM": "dumb"},
    )
    try:
        out, err = running.communicate(timeout=order["longest_s"])
        status = running.returncode
    except subprocess.TimeoutExpired:
        os.killpg(running.pid, signal.SIGKILL)
        out, err = running.communicate()
        status = None
    return {
        "status": status,
        "out": out.decode("utf-8", "replace"),
        "err": err.decode("utf-8", "replace"),
    }


def main():
    # the board's devices are found while services already start
    while not os.path.exists(PORT):
        time.sleep(0.5)
    with open(PORT, "r+b", buffering=0) as port:
        lines = os.fdopen(os.dup(port.fileno()), "rb")
        port.write(b'{"ready": true}\n')
        for line in lines:
            try:
                said = answer(json.loads(line))
            except OSError as error:
                said = {"failed": str(error)}
            data = json.dumps(said).encode() + b"\n"
            while data:
                data = data[port.write(data) :]


main()
