"""Makes the pictures of this folder anew, from demo data only: ``make screenshots``.

Terminals are real ones (xterm on a virtual screen), the report is rendered by Chromium. Needs the
system's xvfb, xterm, imagemagick and chromium.
"""

import contextlib
import os
import shlex
import subprocess
import sys
import sysconfig
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from dunmist.simulation import ComputerTree, ModelComputer, VirtualClock, load_scenario

HERE = Path(__file__).parent
DUNMIST = str(Path(sysconfig.get_path("scripts")) / "dunmist")
DISPLAY = ":97"
CAPTURE = "demo/capture.jsonl.gz"
# picture and the command shown in it
TERMINALS = (
    ("triage", f"dunmist triage {CAPTURE} | head -n 49"),
    ("fix", f"dunmist fix {CAPTURE} --culprit 1; echo; dunmist fix {CAPTURE} --culprit 1 --step 4"),
    ("view-processes", f"dunmist view processes {CAPTURE}"),
    ("view-cores", f"dunmist view cores {CAPTURE}"),
    ("view-memory", f"dunmist view memory {CAPTURE}"),
    ("view-heat", f"dunmist view heat {CAPTURE}"),
    ("view-ports", f"dunmist view ports {CAPTURE}; dunmist view sessions {CAPTURE}"),
    ("view-disks", f"dunmist view disks {CAPTURE}; dunmist view links {CAPTURE}"),
    ("view-services", f"dunmist view services {CAPTURE}; dunmist view autostart {CAPTURE}"),
    ("view-machine", f"dunmist view machine {CAPTURE}"),
)


@contextlib.contextmanager
def screen() -> Iterator[None]:
    """Run a virtual screen of 1280 by 800."""
    server = subprocess.Popen(
        ["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL
    )
    time.sleep(1.0)
    try:
        yield
    finally:
        server.terminate()
        server.wait()


def shoot_terminal(name: str, command: str, folder: Path, wait_s: float = 0.0) -> None:
    """Run a command in a terminal and take its picture once done, or after a while."""
    done = folder / f"{name}.done"
    path = f"{Path(DUNMIST).parent}:{os.environ['PATH']}"
    line = f"printf '$ %s\\n' {shlex.quote(command)}; {command}; touch {done}; sleep 60"
    terminal = subprocess.Popen(
        ["xterm", "-geometry", "158x52+0+0", "-fa", "DejaVu Sans Mono", "-fs", "9",
         "-bg", "#fbfaf7", "-fg", "#1c2430", "-e", "sh", "-c", line],
        cwd=folder, env={**os.environ, "DISPLAY": DISPLAY, "PATH": path},
    )  # fmt: skip
    limit = time.monotonic() + (wait_s or 60.0)
    while not done.exists() and time.monotonic() < limit:
        time.sleep(0.1)
    time.sleep(0.7)
    picture = str(HERE / f"{name}.png")
    subprocess.run(["import", "-display", DISPLAY, "-window", "root", picture], check=True)
    terminal.terminate()
    terminal.wait()


def shoot_page(name: str, page: Path, folder: Path) -> None:
    """Render a page in Chromium."""
    subprocess.run(
        ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run",
         "--disable-background-networking", "--disable-component-update", "--disable-sync",
         "--hide-scrollbars", "--window-size=1280,800", f"--user-data-dir={folder / 'browser'}",
         f"--screenshot={HERE / f'{name}.png'}", page.as_uri()],
        check=True, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
    )  # fmt: skip


def shoot_capture(folder: Path) -> None:
    """Take the picture of a running capture: the model's tree moves with the real clock."""
    model = ModelComputer(load_scenario("ringing-office"))
    tree = ComputerTree(model, folder / "patient")
    clock = VirtualClock(model, tree)
    over = threading.Event()
    began = time.monotonic()

    def move() -> None:
        while not over.wait(0.2):
            clock.sleep_until(time.monotonic() - began)

    mover = threading.Thread(target=move)
    mover.start()
    command = "dunmist capture --root patient -o live.jsonl.gz --for 30s --note 'crawls all day'"
    shoot_terminal("capture", command, folder, wait_s=14.0)
    over.set()
    mover.join()
    tree.close()


def main(wanted: list[str]) -> None:
    """Make the named pictures, or all."""
    with tempfile.TemporaryDirectory() as name, screen():
        folder = Path(name)
        subprocess.run([DUNMIST, "demo", "-o", "demo"], cwd=folder, check=True,
                       stdout=subprocess.DEVNULL)  # fmt: skip
        for picture, command in TERMINALS:
            if not wanted or picture in wanted:
                shoot_terminal(picture, command, folder)
        if not wanted or "report" in wanted:
            shoot_page("report", folder / "demo" / "report.html", folder)
        if not wanted or "capture" in wanted:
            shoot_capture(folder)


if __name__ == "__main__":
    main(sys.argv[1:])
