"""Trouble that a person can do something about.

    DunmistError
    ├── UnreadableComputer   the root holds no computer that can be sampled
    ├── CaptureError         a file is no capture, or not one that can be read
    ├── SettingsError        a file of the user's own settings is not as it has to be
    ├── Refused              an act that would be unsafe, or that this user may not do
    ├── Stopped              somebody stopped the program before it was done
    ├── Unsuccessful         an act was carried out and did not do what it was for
    ├── HistoryError         the history of this computer cannot be read or added to
    ├── OutputError          a result cannot be written where it was asked for
    ├── WrongUsage           what was asked for makes no sense as it was asked (usage)
    └── UnknownName          a word that is not in a vocabulary (usage)

The text of each says what is wrong, where, and what to do; ``cli`` prints it as its last line.
"""


class DunmistError(Exception):
    """Base of all; the text is one line that a person can act on."""

    exit_status = 1


class UnreadableComputer(DunmistError):
    """The root has no proc tree that can be sampled."""


class CaptureError(DunmistError):
    """The file is missing, empty, foreign, damaged before its first tick, or of a newer version."""


class HistoryError(DunmistError):
    """The history is somebody else's, a link, damaged, busy, or of a newer version."""


class SettingsError(DunmistError):
    """A file of settings cannot be read or holds an invalid setting."""


class Refused(DunmistError):
    """An act is not carried out, because it could harm or is not allowed; nothing was done."""


class Stopped(DunmistError):
    """Somebody stopped the program; says how far it had come."""


class Unsuccessful(DunmistError):
    """An act was carried out, but what it was for did not come about."""


class OutputError(DunmistError):
    """The output exists, cannot be written, or its ending names no known format."""


class WrongUsage(DunmistError):
    """A request that contradicts itself or names something missing; counts as wrong usage."""

    exit_status = 2


class UnknownName(DunmistError):
    """A name that is in none of the lists; counts as wrong usage."""

    exit_status = 2
