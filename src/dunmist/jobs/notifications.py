"""Tells the person at the screen what happened, in plain words, over the desktop's notifications.

Source: Desktop Notifications Specification 1.2 (org.freedesktop.Notifications). Who records as
administrator tells everybody who has a session bus; each bus answers its own person only, so their
user number is taken while it is asked.
"""

import logging
import os
from collections.abc import Iterator
from contextlib import contextmanager
from html import escape
from pathlib import Path

from dunmist.computer import Unanswered, call, connected
from dunmist.harmless import harmless
from dunmist.recorder import Kept

SERVICE = (
    "org.freedesktop.Notifications",
    "/org/freedesktop/Notifications",
    "org.freedesktop.Notifications",
)
FORM = "susssasa{sv}i"
# how long it stays, how long a bus may take, and how long a text may be
SHOWN_MS, ANSWER_S, WORDS_MOST = 10_000, 2.0, 240
RUNTIME = Path("/run/user")
_LOG = logging.getLogger(__name__)
SUMMARY = "This computer had trouble just now"
BODY = "{what} It was kept, so that it can be looked at ({name})."


def notify(kept: Kept) -> None:
    """Notify the user at the screen; a failure is no reason to stop."""
    what = harmless(kept.headline or "Somebody said that something is wrong.")[:WORDS_MOST]
    # the body is markup (links and pictures included), and names in it are chosen by anybody
    body = BODY.format(what=escape(what), name=f"incident:{kept.number}")
    for uid, address in _buses():
        try:
            with _as_user(uid), connected(address) as bus:
                call(
                    bus,
                    SERVICE,
                    "Notify",
                    FORM,
                    ("Dunmist", 0, "", SUMMARY, body, [], {}, SHOWN_MS),
                    timeout_s=ANSWER_S,
                )
        except (Unanswered, OSError) as error:
            _LOG.info("user %s could not be notified: %s", uid, error)


def _buses() -> Iterator[tuple[int, str]]:
    """Yield the session buses that can be reached, with whose each is."""
    own = os.environ.get("DBUS_SESSION_BUS_ADDRESS")
    if own:
        yield os.geteuid(), own
        return
    for socket in sorted(RUNTIME.glob("*/bus")):
        uid = socket.parent.name
        if uid.isdigit() and (os.geteuid() in (0, int(uid))):
            yield int(uid), f"unix:path={socket}"


@contextmanager
def _as_user(uid: int) -> Iterator[None]:
    before = os.geteuid()
    if uid == before:
        yield
        return
    os.seteuid(uid)
    try:
        yield
    finally:
        os.seteuid(before)
