"""Graphics cards, and what each process does on them.

Sources: ``Documentation/gpu/drm-usage-stats.rst`` for fdinfo, ``Documentation/gpu/amdgpu/
thermal.rst`` for the busy share and memory, ``Documentation/ABI/testing/sysfs-driver-intel-i915-
hwmon`` and the i915 sysfs files for clocks. Many drivers publish only part of it.
"""

import re
from collections.abc import Callable

import msgspec

from dunmist.computer.parsing import ParseError, counter_of, parse_number, parse_text, text_of
from dunmist.computer.root import Parsed, Root

SUBJECT = "graphics"
_CARD = re.compile(r"card\d+\Z")
_CURRENT_CLOCK = re.compile(rb"^\d+:\s*(\d{1,6})Mhz\s*\*", re.M | re.I)
_FDINFO = re.compile(rb"^drm-([\w-]+):\s*(.+?)\s*$", re.M)
_UNITS = {b"": 1, b"ns": 1, b"KiB": 1 << 10, b"MiB": 1 << 20, b"GiB": 1 << 30, b"cycles": 1}


class GraphicsCard(msgspec.Struct, frozen=True, omit_defaults=True):
    """One card: its driver, and the identity its bus gives it."""

    name: str
    driver: str | None = None
    pci_id: str | None = None
    memory_bytes: int | None = None
    max_clock_hz: int | None = None


class GraphicsSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One card at one tick; None is 'not published'."""

    card: str
    busy_percent: int | None
    memory_used_bytes: int | None
    clock_hz: int | None


class GraphicsUse(msgspec.Struct, frozen=True, array_like=True):
    """Use of a card by one client (a descriptor of a process) since it was opened.

    ``engines_ns`` is time by engine, ``memory_bytes`` that resident in the card's own memory.
    """

    process: int
    client: str
    engines_ns: dict[str, int]
    memory_bytes: int | None


def parse_fdinfo(data: bytes, process: int) -> GraphicsUse | None:
    """Return the use of one descriptor, None when it is none of a card; raises ParseError."""
    words = {text_of(word): value for word, value in _FDINFO.findall(data)}
    if "driver" not in words or "client-id" not in words:
        return None
    engines, memory = {}, None
    for word, value in words.items():
        kind, _, name = word.partition("-")
        if kind == "engine" and not name.startswith("capacity"):
            engines[name] = _amount(value)
        elif word in ("resident-vram", "memory-vram", "resident-vram0"):
            memory = _amount(value)
    client = f"{text_of(words.get('pdev', b''))} {text_of(words['client-id'])}".strip()
    return GraphicsUse(process, client, engines, memory)


def _amount(value: bytes) -> int:
    number, _, unit = value.partition(b" ")
    if unit not in _UNITS:
        raise ParseError("fdinfo", "unknown unit", value)
    return counter_of(number, "fdinfo", "amount") * _UNITS[unit]


def parse_current_clock(data: bytes) -> int:
    """Return the clock in MHz marked with a star in ``pp_dpm_sclk``; raises ParseError."""
    match = _CURRENT_CLOCK.search(data)
    if not match:
        raise ParseError("pp_dpm_sclk", "expected a marked clock", data)
    return int(match[1])


def read_graphics_cards(root: Root) -> list[GraphicsCard]:
    """Return the graphics cards."""
    graphics_cards = []
    for name in root.names("sys/class/drm"):
        if not _CARD.match(name):
            continue
        directory = f"sys/class/drm/{name}"
        vendor = _optional(root, f"{directory}/device/vendor", parse_text)
        device = _optional(root, f"{directory}/device/device", parse_text)
        most_mhz = _optional(root, f"{directory}/gt_max_freq_mhz", parse_number)
        driver = root.link(f"{directory}/device/driver")
        graphics_cards.append(
            GraphicsCard(
                name=name,
                driver=driver.rpartition("/")[2] if driver else None,
                pci_id=f"{vendor}:{device}".replace("0x", "") if vendor and device else None,
                memory_bytes=_optional(
                    root, f"{directory}/device/mem_info_vram_total", parse_number
                ),
                max_clock_hz=most_mhz * 1_000_000 if most_mhz else None,
            )
        )
    return graphics_cards


def read_graphics(root: Root, cards: list[GraphicsCard]) -> list[GraphicsSample]:
    """Return the present use of each card."""
    samples = []
    for card in cards:
        directory = f"sys/class/drm/{card.name}"
        mhz = _optional(root, f"{directory}/gt_act_freq_mhz", parse_number)
        if mhz is None:
            mhz = _optional(root, f"{directory}/device/pp_dpm_sclk", parse_current_clock)
        samples.append(
            GraphicsSample(
                card.name,
                _optional(root, f"{directory}/device/gpu_busy_percent", parse_number),
                _optional(root, f"{directory}/device/mem_info_vram_used", parse_number),
                None if mhz is None else mhz * 1_000_000,
            )
        )
    return samples


def _optional(root: Root, name: str, parser: Callable[[bytes], Parsed]) -> Parsed | None:
    return root.parse(name, parser, SUBJECT, again=True, may_be_silent=True)
