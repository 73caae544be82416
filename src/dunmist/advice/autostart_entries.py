"""Build the acts that switch a desktop's autostart entry off and on again.

Source: freedesktop.org's Desktop Application Autostart Specification. Only files that end in
``.desktop`` are entries. So a person's own entry is switched off by another ending. An entry of the
system is overridden by one of the same name with ``Hidden=true`` below the person's own directory.
No file is deleted that was there before.
"""

import shlex
from pathlib import PurePosixPath

from dunmist.computer import StartEntry

OWN = ".config/autostart"
OFF = ".off"
OVERRIDE = "[Desktop Entry]\nType=Application\nHidden=true\n"


def is_own(entry: StartEntry) -> bool:
    """Whether an entry lies in a person's own directory, not the system's."""
    return f"/{OWN}/" in entry.file


def override_name(file: str) -> str:
    """Return where below a home an entry of the system is overridden."""
    return f"{OWN}/{PurePosixPath(file).name}"


def disable_command(entry: StartEntry) -> str:
    """Return the shell command that keeps an entry from starting anything."""
    if is_own(entry):
        return f"mv -n -- {shlex.quote(entry.file)} {shlex.quote(entry.file + OFF)}"
    override = f"~/{shlex.quote(override_name(entry.file))}"
    return f"mkdir -p ~/{OWN} && printf '{_for_printf(OVERRIDE)}' > {override}"


def enable_command(entry: StartEntry) -> str:
    """Return the shell command that undoes it."""
    if is_own(entry):
        return f"mv -n -- {shlex.quote(entry.file + OFF)} {shlex.quote(entry.file)}"
    return f"rm -- ~/{shlex.quote(override_name(entry.file))}"


def _for_printf(text: str) -> str:
    return text.replace("\n", "\\n")
