"""One visit: its folder, the child that samples into it, and the children that judge and act.

The folder keeps the captures, what was said of them and the reports, and can be opened again.
"""

import contextlib
import os
import shlex
import signal
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from tempfile import mkdtemp
from typing import IO

import msgspec

from dunmist.children import python_command, start_child
from dunmist.desk.judgement import Judgement
from dunmist.desk.priority import IDLE, with_priority
from dunmist.errors import OutputError, UnreadableComputer
from dunmist.harmless import harmless
from dunmist.output import write_whole

# longer than anybody stays; Ctrl-C and q end it
SAMPLED_FOR = "12h"
MODULE = "dunmist"
# directories for a capture that is not kept, and the least room for any capture
IN_MEMORY = (Path("/dev/shm"), Path("/run"))  # noqa: S108 - in a folder of our own, by mkdtemp
ROOM_LEAST_BYTES = 1 << 16
# the file with the line for the ticket
LINE = "visit.txt"
# messages of the child process that samples
LOG = "sampling.log"
# lines of the journal of acts that were added during the visit
ACTS = "acts.jsonl"
# ends when this process does, however that ends
WHILE_READ = "dunmist.desk.while_read"
JUDGE = "dunmist.jobs.desk_judgement"
# a recent verdict counts for more than one of an hour ago
WINDOW_S = 60.0
# a capture that is sampled no more has until here to be closed
CLOSED_WITHIN_S = 5.0


@dataclass(frozen=True, slots=True)
class VisitOptions:
    """Folder of the visit, and its computer: this computer without ``target``."""

    folder: Path
    every_s: float = 1.0
    # options of ``dunmist capture`` that say which computer
    target: tuple[str, ...] = ()
    complaints: tuple[str, ...] = ()
    note: str | None = None
    # a capture that is looked at instead of sampling
    file: Path | None = None
    # the journal of acts
    journal: Path | None = None

    @property
    def is_live(self) -> bool:
        """Whether a computer is sampled."""
        return self.file is None

    @property
    def can_act(self) -> bool:
        """Whether what is looked at may be this computer, so that steps can be carried out."""
        return not self.target


class Visit:
    """The children of a visit; use it as a context manager."""

    def __init__(self, options: VisitOptions) -> None:
        self.options = options
        self.every_s = options.every_s
        self.folder = options.folder
        self.note = options.note or ""  # the complaint, in the words of the person who has it
        self.path = (options.file or options.folder / "capture.jsonl.gz").absolute()
        self._sampler: subprocess.Popen[bytes] | None = None
        self._said: IO[bytes] | None = None
        self._count = 0
        self._judging: subprocess.Popen[bytes] | None = None
        # by how much the priority of this process is better than that of its children
        self.raised_by = 0
        self._journal_from_bytes = self._journal_bytes()
        self._unkept_acts = ""  # why what was done is not in the folder

    def __enter__(self) -> "Visit":
        if self.options.is_live:
            self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._begin()
        return self

    def __exit__(self, *_: object) -> None:
        self.end_sampling()
        if self.is_unkept:
            import shutil

            shutil.rmtree(self.folder, ignore_errors=True)

    def _begin(self) -> None:
        self._count += 1
        name = "capture.jsonl.gz" if self._count == 1 else f"capture-{self._count}.jsonl.gz"
        self.path = self.folder.absolute() / name
        self._start(self._words())

    def raise_if_never_begun(self) -> None:
        """Raise UnreadableComputer with the reason where sampling ended before it had begun."""
        reason = self.trouble()
        has_begun = self.path.exists() and self.path.stat().st_size > 0
        if reason is None or has_begun or self.is_sampling or self.ended_by_full_disk():
            return
        self.kept(LOG).unlink()
        with contextlib.suppress(OSError):  # the user may keep more in a folder of their own
            self.options.folder.rmdir()
        raise UnreadableComputer(harmless(reason.removeprefix("dunmist: ")))

    def _words(self) -> list[str]:
        """Return the command that samples."""
        words = [
            *("capture", "-o", str(self.path), "--for", SAMPLED_FOR),
            *("--every", f"{self.every_s:g}s", "--force", *self.options.target),
        ]
        for complaint in self.options.complaints:
            words += ["--complaint", complaint]
        if self.note:
            words += ["--note", self.note]
        return words

    def _start(self, words: Sequence[str]) -> None:
        self._said = (self.folder / LOG).open("ab")
        self._sampler = start_child(
            python_command("-m", WHILE_READ, *words),
            stdin=subprocess.PIPE,
            stderr=self._said,
            own_session=True,
        )

    @property
    def is_sampling(self) -> bool:
        """Whether there is more to come."""
        return self._sampler is not None and self._sampler.poll() is None

    @property
    def is_unkept(self) -> bool:
        """Whether it is sampled into memory, as the disk is full."""
        return self.folder != self.options.folder

    def ended_by_full_disk(self) -> bool:
        """Whether sampling ended because there was no room for what it wrote."""
        if self.is_unkept or self._sampler is None or self._sampler.poll() in (None, 0):
            return False
        room = os.statvfs(self.folder)
        return room.f_bavail * room.f_frsize < ROOM_LEAST_BYTES

    def go_on_unkept(self) -> None:
        """Go on sampling into memory; it is gone with the visit."""
        self.end_sampling()
        directory = next((directory for directory in IN_MEMORY if directory.is_dir()), None)
        self.folder = Path(mkdtemp(prefix="dunmist-visit-", dir=directory))
        self._begin()

    def trouble(self) -> str | None:
        """Return the last line that sampling said when it could not go on, None while it can."""
        if self.is_unkept and self.is_sampling:
            return "the disk is full: nothing more is kept"
        if self._sampler is None or self._sampler.poll() in (None, 0):
            return None
        lines = (self.folder / LOG).read_text("utf-8", "replace").splitlines()
        return lines[-1] if lines else "sampling ended"

    @property
    def asks_first(self) -> bool:
        """Whether to ask what is complained of: nobody has said it yet."""
        return self.options.is_live and not (self.note or self.options.complaints)

    @property
    def state(self) -> str:
        """Return in a word what is done with the computer."""
        return "sampled"

    @property
    def has_pace(self) -> bool:
        """Whether the pace can be changed."""
        return self.is_sampling

    def newest(self) -> Path:
        """Return the capture that has, or will have, what is sampled now."""
        return self.path

    def news(self) -> str:
        """Return a remark on the sampling; empty if there is none."""
        return ""

    def for_report(self) -> Path:
        """Return the capture that a report is of."""
        return self.path

    def keep_line(self, line: str) -> None:
        """Keep the line for the ticket next to the captures; a full disk is no reason to stay."""
        if self.options.is_live:
            path = self.kept(LINE)
            try:
                path.write_text(f"{line}\n", "utf-8")
            except OSError:
                path.unlink(missing_ok=True)

    def _journal_bytes(self) -> int:
        journal = self.options.journal
        return journal.stat().st_size if journal is not None and journal.is_file() else 0

    def keep_acts(self) -> None:
        """Copy what the journal of acts gained during the visit into its folder."""
        journal = self.options.journal
        if journal is None or self._journal_bytes() <= self._journal_from_bytes:
            return
        with journal.open("rb") as stream:
            stream.seek(self._journal_from_bytes)
            added = stream.read()
        try:
            write_whole(self.kept(ACTS), added, force=True)
        except OutputError as error:
            self._unkept_acts = f"{error}; dunmist fix list has what was done"

    def kept_text(self) -> str:
        """Return the sentence on the kept files."""
        if not self.options.is_live:
            return self._unkept_acts
        if self.is_unkept:
            return f"the disk was full: only the beginning is kept in {self.options.folder}"
        kept = f"kept {self.options.folder}; again: dunmist desk {self.path}"
        return "\n".join(filter(None, (kept, self._unkept_acts)))

    def change_pace(self, every_s: float) -> None:
        """Go on at another pace, in a capture of its own."""
        self.end_sampling()
        self.every_s = every_s
        self._begin()

    def end_sampling(self) -> None:
        """Have the capture closed; what was sampled is kept."""
        if self._sampler is not None and self._sampler.poll() is None:
            self._sampler.send_signal(signal.SIGINT)
            try:
                self._sampler.wait(CLOSED_WITHIN_S)
            except subprocess.TimeoutExpired:
                self._sampler.kill()
                self._sampler.wait()
        if self._sampler is not None and self._sampler.stdin is not None:
            self._sampler.stdin.close()
        if self._said is not None:
            self._said.close()

    def judge(
        self, since_s: float, until_s: float | None = None, *, is_idle: bool = True
    ) -> "subprocess.Popen[bytes]":
        """Start judging what was sampled between two times; its answer is one line.

        Idle work may take minutes where every CPU is full.
        """
        until = "inf" if until_s is None else f"{until_s:.3f}"
        command = python_command("-m", JUDGE, str(self.path), f"{since_s:.3f}", until, self.note)
        lower_by = self.raised_by + (IDLE if is_idle else 0)
        self._judging = start_child(
            with_priority(command, lower_by), stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        return self._judging

    def end_judging(self) -> None:
        """End a judging child: where every CPU is full, idle work would take minutes."""
        if self._judging is not None and self._judging.poll() is None:
            self._judging.kill()

    def run(
        self, *words: str, columns: int = 100, errors: bool = True
    ) -> "subprocess.Popen[bytes]":
        """Start a command of this program that looks or acts; what it prints is its answer.

        Without ``errors`` that is standard output alone.
        """
        command = ["/usr/bin/env", f"COLUMNS={columns}", *python_command("-m", MODULE, *words)]
        return start_child(
            with_priority(command, self.raised_by),
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT if errors else subprocess.DEVNULL,
        )

    def kept(self, name: str) -> Path:
        """Return the path of a file of the visit; its folder is there."""
        self.options.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        return self.options.folder.absolute() / name


def read_judgement(answer: bytes) -> Judgement:
    """Return the answer of a judging child; raises msgspec.DecodeError."""
    return msgspec.json.decode(answer, type=Judgement)


def new_folder(parent: Path) -> Path:
    """Return the name of a folder for a visit that begins now."""
    return parent / f"visit-{datetime.now().astimezone():%Y%m%d-%H%M%S}-{os.getpid()}"


def shown_command(words: Sequence[str]) -> str:
    """Return a command of this program as somebody would type it."""
    return shlex.join(["dunmist", *words])
