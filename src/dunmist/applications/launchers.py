"""Knowledge about programs that start others on a person's or the system's behalf.

What a launcher starts belongs to itself, not to the launcher; an interpreter's program is its
script. All are file names as the programs' own packages install them, or patterns of them.
"""

import re
from typing import NamedTuple

# file names of programs whose children are applications of their own
LAUNCHERS = frozenset(
    (
        "init", "systemd", "login", "sshd", "sshd-session", "sudo", "su", "doas", "runuser",
        "cron", "crond", "anacron", "atd", "at", "xinit", "startx", "dbus-daemon", "dbus-broker",
        "nohup", "setsid", "env", "timeout", "nice", "ionice", "script",
        "gnome-shell", "plasmashell", "xfce4-panel", "gnome-session-binary", "gdm-session-worker",
        "xterm", "gnome-terminal-server", "konsole", "tmux: server", "screen",
        "containerd-shim", "dumb-init", "tini",
    )
)
SHELLS = frozenset(("sh", "bash", "dash", "zsh", "fish", "ksh"))


class Interpreter(NamedTuple):
    """Command-line forms in which an interpreter names its program."""

    file: re.Pattern[str]  # matches the name of the executable
    with_value: frozenset[str] = frozenset()  # options followed by a value of their own
    naming: frozenset[str] = frozenset()  # options whose value names the program, as -m
    inline: frozenset[str] = frozenset()  # options whose value is a program text, as -c
    # options after which the program comes from standard input
    from_input: frozenset[str] = frozenset()


INTERPRETERS = (
    Interpreter(
        re.compile(r"python[0-9.]*\Z"),
        with_value=frozenset(("-W", "-X")),
        naming=frozenset(("-m",)),
        inline=frozenset(("-c",)),
    ),
    Interpreter(
        re.compile(r"(?:perl|ruby|lua|php)[0-9.]*\Z"),
        with_value=frozenset(("-I", "-M")),
        inline=frozenset(("-e", "-r")),
    ),
    Interpreter(
        re.compile(r"(?:node|nodejs)\Z"),
        with_value=frozenset(("-r", "--require")),
        inline=frozenset(("-e", "--eval")),
    ),
    Interpreter(
        re.compile(r"java\Z"),
        with_value=frozenset(("-cp", "-classpath", "--class-path")),
        naming=frozenset(("-jar",)),
    ),
    Interpreter(
        re.compile(r"(?:sh|bash|dash|zsh|fish|ksh)\Z"),
        with_value=frozenset(("-o", "-O")),
        inline=frozenset(("-c",)),
        from_input=frozenset(("-s",)),
    ),
    Interpreter(re.compile(r"(?:Rscript|R)\Z"), inline=frozenset(("-e",))),
)

# control groups that are one application: a service, or a desktop's scope (systemd's
# documentation "Desktop Environment Integration"); the others below are only sessions
UNIT = re.compile(r"[^/]+\.(?:service|scope)\Z")
SESSION_UNITS = re.compile(
    r"(?:user@\d+\.service|session-[^/]+\.scope|init\.scope|vte-spawn-[^/]+\.scope|"
    r"(?:cron|crond|atd|ssh|sshd|getty|display-manager|gdm|lightdm|sddm)(?:@[^/]*)?\.service|"
    r"app-[^/]*[Tt]erminal[^/]*\.(?:scope|service)|tmux-spawn-[^/]+\.scope)\Z"
)
