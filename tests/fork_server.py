"""The program, loaded once and run many times: each run is a fork of its own with its own files.

A run calls the same entry point as the installed script, with arguments, folder, environment and
standard files of its own; only the loading of Python, of the libraries and of the program's own
tables is shared. Tests of what is loaded, of signals and of limits start the installed script.
"""

import atexit
import gc
import json
import os
import socket
import struct
import subprocess
import sys
import tempfile
from importlib import import_module
from pathlib import Path

LOADED = (
    "dunmist.cli.main",
    "dunmist.cli.viewing",
    "dunmist.cli.reporting",
    "dunmist.cli.fix_actions",
    "dunmist.jobs.capture",
    "dunmist.jobs.selection",
    "dunmist.jobs.patient",
    "dunmist.reports.pdf",
    "dunmist.reports.html",
    "dunmist.reports.pictures",
)
ENDED = struct.Struct("=id")  # status and seconds of CPU time of a run


def warm_up():
    """Fill the caches of tables, patterns and fonts, which are the same for every run."""
    from dunmist.cli.first_screen import first_screen
    from dunmist.jobs.judge import judge
    from dunmist.jobs.patient import capture_patient
    from dunmist.reports import document_text, triage_document, write_report
    from dunmist.simulation import load_scenario

    with tempfile.TemporaryDirectory(prefix="dunmist-standing-by-") as folder:
        capture = capture_patient(load_scenario("ringing-office"), Path(folder) / "x.jsonl.gz")
        judged = judge(capture)
        first_screen(judged, 80, 24, colours=True)
        document_text(triage_document(judged.triage))
        write_report(judged, Path(folder) / "x.html")
    # a collection in a run would copy the memory that it shares
    gc.collect()
    gc.freeze()


def serve(path):
    """Wait for requests on a socket file, and fork for each."""
    for module in LOADED:
        import_module(module)
    warm_up()
    listener = socket.socket(socket.AF_UNIX)
    listener.bind(path)
    listener.listen()
    print("ready", flush=True)
    while True:
        connection, _ = listener.accept()
        if os.fork() == 0:
            listener.close()
            answer(connection)
            os._exit(0)
        connection.close()
        while True:  # those that are done
            try:
                if os.waitpid(-1, os.WNOHANG)[0] == 0:
                    break
            except ChildProcessError:
                break


def answer(connection):
    data, files, _, _ = socket.recv_fds(connection, 1 << 20, 3)
    request = json.loads(data)
    child = os.fork()
    if child == 0:
        connection.close()
        os._exit(carry_out(request, files))
    _, status, used = os.wait4(child, 0)
    cpu_s = used.ru_utime + used.ru_stime
    connection.sendall(ENDED.pack(os.waitstatus_to_exitcode(status), cpu_s))


def carry_out(request, files):
    for number, file in enumerate(files):
        os.dup2(file, number)
        os.close(file)
    # those that Python made belong to the files of the server
    sys.stdin = os.fdopen(0, closefd=False)
    sys.stdout = os.fdopen(1, "w", closefd=False)
    sys.stderr = os.fdopen(2, "w", buffering=1, errors="backslashreplace", closefd=False)
    os.chdir(request["folder"])
    os.environ.clear()
    os.environ.update(request["environment"])
    sys.argv = ["dunmist", *request["arguments"]]
    try:
        import_module("dunmist.cli.main").run()
    except SystemExit as end:
        status = end.code if isinstance(end.code, int) else int(bool(end.code))
    else:
        status = 1  # it always says how it ended
    atexit._run_exitfuncs()  # a fork that ends by os._exit would leave its temporary folders
    sys.stdout.flush()
    sys.stderr.flush()
    return status


class ForkServer:
    """Starts the loaded program when it is first wanted; ``cpu_s`` is of all runs."""

    def __init__(self):
        self.folder = None
        self.cpu_s = 0.0

    def start(self):
        self.folder = tempfile.mkdtemp(prefix="dunmist-standing-by-")
        self.path = str(Path(self.folder) / "requests")
        self.process = subprocess.Popen(
            [sys.executable, "-m", "tests.fork_server", self.path],
            stdout=subprocess.PIPE,
            text=True,
            cwd=Path(__file__).parent.parent,
        )
        if self.process.stdout.readline() != "ready\n":
            raise AssertionError("the program could not be loaded")

    def run(self, arguments, folder, environment, data, timeout_s):
        """Return status, standard output and standard error of one run."""
        with (
            tempfile.TemporaryFile() as given,
            tempfile.TemporaryFile() as out,
            tempfile.TemporaryFile() as err,
        ):
            given.write((data or "").encode())
            given.seek(0)
            files = [item.fileno() for item in (given, out, err)]
            status = self.run_on(files, arguments, folder, environment, timeout_s)
            texts = []
            for stream in (out, err):
                stream.seek(0)
                texts.append(stream.read().decode())
        return status, *texts

    def run_on(self, files, arguments, folder, environment, timeout_s):
        """Return the status of one run with these three descriptors as its standard files."""
        if self.folder is None:
            self.start()
        with socket.socket(socket.AF_UNIX) as requests:
            requests.settimeout(timeout_s)
            requests.connect(self.path)
            request = {"arguments": arguments, "folder": str(folder), "environment": environment}
            socket.send_fds(requests, [json.dumps(request).encode()], files)
            status, cpu_s = ENDED.unpack(requests.recv(ENDED.size, socket.MSG_WAITALL))
        self.cpu_s += cpu_s
        return status

    def stop(self):
        if self.folder:
            self.process.kill()
            self.process.wait()
            self.process.stdout.close()
            Path(self.path).unlink()
            Path(self.folder).rmdir()


if __name__ == "__main__":
    serve(sys.argv[1])
