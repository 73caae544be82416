"""Print the log messages of modules on standard error."""

import logging

from dunmist.harmless import harmless


class _OneLine(logging.Formatter):
    """Messages as they may reach a terminal: a path in one may be chosen by anybody."""

    def format(self, record: logging.LogRecord) -> str:
        """Return one harmless line."""
        return harmless(" ".join(super().format(record).split()))


def set_up(*, verbose: bool) -> None:
    """Have messages said in one line each; with ``verbose`` also what is being done."""
    logging.basicConfig(level=logging.INFO if verbose else logging.WARNING)
    logging.getLogger().handlers[0].setFormatter(_OneLine("dunmist: %(message)s"))
