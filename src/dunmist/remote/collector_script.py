"""Build the collector script: fed to a remote shell, or as a file to carry."""

import secrets
from importlib.resources import files

from dunmist.remote.remote_paths import shell_lists

# 96 bits cannot be guessed by what a process writes
MARK_BYTES = 12
# the shell counts in whole hundredths of a second
HUNDREDTHS = 100
_OF_ITS_OWN = """\
#!/bin/sh
# Run this as 'sh FILE', as administrator if you can: 'sudo sh FILE'. It takes {duration:g} seconds
# and leaves one file in a new directory here, whose name it says. Send that file to the technician
# who asked for it.
# What follows says what it reads.
#
"""
_INTO_A_FILE = r"""
fail() {{ printf '%s\n' "$1"; exit 1; }}
IFS=- read -r a b c d e </proc/sys/kernel/random/uuid || fail "No random number can be had."
MARK=$a$b$c$d$e TICKS={ticks} EVERY={every}
# whoever else can write here must neither read the file nor choose what is written to
umask 077
set -C
name=collected-$(date +%Y%m%d-%H%M%S)
mkdir "$name-$a$b" && cd "$name-$a$b" || fail "No directory can be made here: $PWD"
owner=$(ls -ldn . | sed 's/^[^ ]* *[0-9]* *\([0-9]*\) .*/\1/')
[ "$owner" = "$(id -u)" ] || fail "Somebody else took the directory: $PWD"
out=$name.txt
exec 3>"$out" 4<"$out" || fail "No file can be made in $PWD."
collect >&3
if gzip -c <&4 >"$out.gz"; then rm "$out" && out=$out.gz; fi
echo "Done. Send this file: $PWD/$out"
"""


def collector() -> str:
    """Return the functions of the collector, and the lists of what they read."""
    functions = (files("dunmist.remote") / "collector.sh").read_text(encoding="utf-8")
    return f"{functions}\n# what is read, by when\n{shell_lists()}"


def new_mark() -> str:
    """Return a word that nobody on the remote computer can guess."""
    return secrets.token_hex(MARK_BYTES)


def collector_script(mark: str, ticks: int, every_s: float) -> str:
    """Return the script for a shell's standard input; it writes to standard output."""
    asked = f"MARK={mark}\nTICKS={ticks} EVERY={round(HUNDREDTHS * every_s)}\n"
    # a shell that is fed its commands must not let one of them eat the rest
    return f"{collector()}\n{asked}collect <$NIL\nexit\n"


def script_to_carry(ticks: int, every_s: float) -> str:
    """Return a script that a person runs, and that leaves one file."""
    head = _OF_ITS_OWN.format(duration=ticks * every_s)
    asked = _INTO_A_FILE.format(ticks=ticks, every=round(HUNDREDTHS * every_s))
    return f"{head}{collector()}{asked}"
