"""Knowledge about programs that start others on a person's or the system's behalf.

What a launcher starts belongs to itself, not to the launcher; an interpreter's program is its
script. All are file names as the programs' own packages install them, or patterns of them.
"""

import re

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
)  # fmt: skip
SHELLS = frozenset(("sh", "bash", "dash", "zsh", "fish", "ksh"))

# interpreters, with the options that take a value of their own
INTERPRETERS = (
    (re.compile(r"python[0-9.]*\Z"), frozenset(("-W", "-X", "-m", "-c"))),
    (re.compile(r"(?:perl|ruby|lua|php)[0-9.]*\Z"), frozenset(("-e", "-I", "-r", "-M"))),
    (re.compile(r"(?:node|nodejs)\Z"), frozenset(("-e", "-r", "--require", "--eval"))),
    (re.compile(r"java\Z"), frozenset(("-cp", "-classpath", "--class-path", "-jar"))),
    (re.compile(r"(?:sh|bash|dash|zsh|fish|ksh)\Z"), frozenset(("-c", "-o", "-O"))),
    (re.compile(r"(?:Rscript|R)\Z"), frozenset(("-e",))),
)
# options whose value names the program, and those whose value is a program text
NAMING_OPTIONS = frozenset(("-m", "-jar"))
INLINE_OPTIONS = frozenset(("-c", "-e", "--eval"))

# control groups that are one application: a service, or a desktop's scope (systemd's
# documentation "Desktop Environment Integration"); the others below are only sessions
UNIT = re.compile(r"[^/]+\.(?:service|scope)\Z")
SESSION_UNITS = re.compile(
    r"(?:user@\d+\.service|session-[^/]+\.scope|init\.scope|vte-spawn-[^/]+\.scope|"
    r"(?:cron|crond|atd|ssh|sshd|getty|display-manager|gdm|lightdm|sddm)(?:@[^/]*)?\.service|"
    r"app-[^/]*[Tt]erminal[^/]*\.(?:scope|service)|tmux-spawn-[^/]+\.scope)\Z"
)
