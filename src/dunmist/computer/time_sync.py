"""Read if the clock is synchronized: adjtimex(2), ntp_adjtime(3)."""

import ctypes
import struct

import msgspec

from dunmist.computer.root import Root

# include/uapi/linux/timex.h
STA_UNSYNC = 0x0040
# return value of adjtimex(2) for an unsynchronised clock
TIME_ERROR = 5
TIMEX_BYTES = 256  # struct timex with room to spare
# modes, offset, frequency, greatest error, estimated error (µs), status
_TIMEX = struct.Struct("@illlli")
US_PER_S = 1e6


class TimeSync(msgspec.Struct, frozen=True):
    """``greatest_error_s`` is the bound that the kernel knows of, without meaning when not kept."""

    synchronised: bool
    greatest_error_s: float


def read_time_sync(root: Root) -> TimeSync | None:
    """Return the synchronisation of the running kernel's clock; None for another root."""
    if not root.is_this_computer:
        return None
    buffer = ctypes.create_string_buffer(TIMEX_BYTES)
    state = ctypes.CDLL(None, use_errno=True).adjtimex(buffer)
    if state < 0:
        root.note("clock synchronisation", "failed")
        return None
    _, _, _, greatest_us, _, status = _TIMEX.unpack_from(buffer.raw)
    kept = state != TIME_ERROR and not status & STA_UNSYNC
    return TimeSync(kept, greatest_us / US_PER_S)
