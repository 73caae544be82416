"""Makes the pictures of this folder anew, from demo data only: ``make screenshots``.

Terminals are real ones (xterm on a virtual screen), the report is rendered by Chromium. Needs the
system's xvfb, xterm, tmux, imagemagick, poppler-utils and chromium.
"""

import contextlib
import os
import shlex
import shutil
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
DARK, LIGHT = ("#12161c", "#dfe4ea"), ("#fbfaf7", "#1c2430")
# these are taken on a light terminal, the others on a dark one
ON_LIGHT = ("view-processes",)
# picture and the command shown in it
TERMINALS = (
    ("triage", f"dunmist triage {CAPTURE}"),
    ("fix", f"dunmist fix show {CAPTURE}; echo; dunmist fix do {CAPTURE} pause"),
    (
        "view-processes",
        f"dunmist view processes {CAPTURE} --limit 8 --no-pager; "
        f"dunmist view processes {CAPTURE} --tree --name '*i*' --limit 18",
    ),
    ("view-process", f"dunmist view process {CAPTURE} nestcam-index --no-pager"),
    ("view-timeline", f"dunmist view timeline {CAPTURE}"),
    ("view-memory", f"dunmist view memory {CAPTURE} | head -n 50"),
    ("view-heat", f"dunmist view heat {CAPTURE} --no-pager"),
    ("view-ports", f"dunmist view ports {CAPTURE} --no-pager; dunmist view sessions {CAPTURE}"),
    ("view-disks", f"dunmist view disks {CAPTURE}; dunmist view links {CAPTURE}"),
    (
        "view-doing",
        f"dunmist view doing {CAPTURE} --no-pager; dunmist view changes {CAPTURE} --no-pager",
    ),
    ("compare", f"dunmist compare {CAPTURE} evening/capture.jsonl.gz"),
    ("compare-normal", "dunmist compare week/before-*.jsonl.gz week/now.jsonl.gz"),
)
# picture, command, and after how many seconds it is taken
RUNNING = (
    (
        "desk",
        "XDG_STATE_HOME=state dunmist desk --root patient -o visit --note 'crawls all day'",
        40.0,
    ),
    (
        "capture",
        "dunmist capture --root patient -o live.jsonl.gz --for 30s --note 'crawls all day'",
        14.0,
    ),
    (
        "desk-open",
        "tmux -L dunmist-pictures -f /dev/null new-session 'XDG_STATE_HOME=state dunmist desk"
        f" {CAPTURE} -o visit-2' \\; set-option status off",
        40.0,
    ),
)
# what is typed into a picture's terminal, and how long after its start
TYPED = {"desk-open": (("v", 15.0),)}
TYPE = ("tmux", "-L", "dunmist-pictures", "send-keys")


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
    background, foreground = LIGHT if name in ON_LIGHT else DARK
    terminal = subprocess.Popen(
        [
            "xterm",
            "-geometry",
            "158x52+0+0",
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "9",
            "-bg",
            background,
            "-fg",
            foreground,
            "-e",
            "sh",
            "-c",
            line,
        ],
        cwd=folder,
        env={**os.environ, "DISPLAY": DISPLAY, "PATH": path},
    )
    for key, after_s in TYPED.get(name, ()):
        threading.Timer(after_s, subprocess.run, [[*TYPE, key]]).start()
    limit = time.monotonic() + (wait_s or 60.0)
    while not done.exists() and time.monotonic() < limit:
        time.sleep(0.1)
    time.sleep(0.7)
    picture = str(HERE / f"{name}.png")
    subprocess.run(["import", "-display", DISPLAY, "-window", "root", picture], check=True)
    terminal.terminate()
    terminal.wait()


def shoot_pages(page: Path) -> None:
    """Render the report in Chromium, and on a phone."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as started:
        browser = started.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox", "--disable-gpu"]
        )
        for name, width, height, scheme in (
            ("report", 1280, 1600, "light"),
            ("report-phone", 390, 1200, "light"),
        ):
            look = browser.new_page(viewport={"width": width, "height": height})
            look.emulate_media(color_scheme=scheme)
            look.goto(page.as_uri())
            look.screenshot(path=HERE / f"{name}.png")
        browser.close()


def shoot_paper(paper: Path) -> None:
    """Render the first pages of the PDF."""
    pages = paper.with_name("page")
    subprocess.run(["pdftoppm", "-r", "60", "-l", "3", "-png", paper, pages], check=True)
    pictures = sorted(paper.parent.glob("page-*.png"))
    subprocess.run(
        [
            "montage",
            *pictures,
            "-tile",
            "3x1",
            "-geometry",
            "+6+6",
            "-background",
            "#c8ccd2",
            HERE / "report-pdf.png",
        ],
        check=True,
    )


def shoot_running(name: str, command: str, folder: Path, wait_s: float) -> None:
    """Take the picture of what is running: the model's tree moves with the real clock."""
    model = ModelComputer(load_scenario("ringing-office"))
    place = folder / "patient"
    shutil.rmtree(place, ignore_errors=True)
    tree = ComputerTree(model, place)
    clock = VirtualClock(model, tree)
    over = threading.Event()
    began = time.monotonic()

    def move() -> None:
        while not over.wait(0.2):
            clock.sleep_until(time.monotonic() - began)

    mover = threading.Thread(target=move)
    mover.start()
    shoot_terminal(name, command, folder, wait_s)
    over.set()
    mover.join()
    tree.close()


def main(wanted: list[str]) -> None:
    """Make the named pictures, or all."""
    with tempfile.TemporaryDirectory() as name, screen():
        folder = Path(name)
        subprocess.run(
            [DUNMIST, "demo", "-o", "demo"], cwd=folder, check=True, stdout=subprocess.DEVNULL
        )
        subprocess.run(
            [DUNMIST, "demo", "cliff-top-evening", "-o", "evening"],
            cwd=folder,
            check=True,
            stdout=subprocess.DEVNULL,
        )
        subprocess.run(
            [DUNMIST, "demo", "--chapter", "normal-and-now", "-o", "week"],
            cwd=folder,
            check=True,
            stdout=subprocess.DEVNULL,
        )
        for picture, command in TERMINALS:
            if not wanted or picture in wanted:
                shoot_terminal(picture, command, folder)
        if not wanted or "report" in wanted:
            shoot_pages(folder / "demo" / "report.html")
            shoot_paper(folder / "demo" / "report.pdf")
        if not wanted or "history" in wanted:
            weeks = ["demo", "--chapter", "eight-weeks", "-o", "weeks"]
            subprocess.run([DUNMIST, *weeks], cwd=folder, check=True, stdout=subprocess.DEVNULL)
            shutil.copy(folder / "weeks" / "history.png", HERE / "history.png")
        for picture, command, wait_s in RUNNING:
            if not wanted or picture in wanted:
                shoot_running(picture, command, folder, wait_s)


if __name__ == "__main__":
    main(sys.argv[1:])
