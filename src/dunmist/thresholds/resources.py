"""The figures that decide the level of each resource, with those of links and graphics cards."""

from dunmist.thresholds.cpu import CoreLimits, ProcessorLimits
from dunmist.thresholds.disks import (
    CARD,
    NETWORK,
    SOLID,
    SPINNING,
    DiskKind,
    DiskKindLimits,
    DiskLimits,
    StorageLimits,
)
from dunmist.thresholds.heat import HeatLimits
from dunmist.thresholds.memory import MemoryLimits
from dunmist.thresholds.units import Bytes, Figures, Seconds, Share


class LinkLimits(Figures, frozen=True):
    """Network links."""

    # a packet or more waits to be sent, ...
    queued_bytes: Bytes = 1000.0
    # ... in this share of the samples within so many seconds: the line takes no more
    queued_share: Share = 0.6
    # queues are sampled once a second, so this holds five samples
    queue_window_s: Seconds = 5.0
    # share of the link's speed in its fuller direction; headers take the rest
    busy: Share = 0.50
    # of a full line so much is counted where packets have 360 bytes or more: the rest are preambles
    # and gaps (IEEE 802.3); below it nobody waits, or the queue tells
    strained_used: Share = 0.94
    # nothing more goes through, even with large packets
    choked_used: Share = 0.97


class GraphicsLimits(Figures, frozen=True):
    """Graphics cards."""

    # share of time in which the card was busy
    busy: Share = 0.50
    # each frame has a deadline, and a card that is this busy begins to miss some
    strained_used: Share = 0.90
    # no idle time is left
    choked_used: Share = 0.99


class ResourceLimits(Figures, frozen=True):
    """The figures of each resource."""

    cpu: ProcessorLimits = ProcessorLimits()
    core: CoreLimits = CoreLimits()
    memory: MemoryLimits = MemoryLimits()
    heat: HeatLimits = HeatLimits()
    disk: DiskLimits = DiskLimits()
    disk_spinning: DiskKindLimits = SPINNING
    disk_solid: DiskKindLimits = SOLID
    disk_card: DiskKindLimits = CARD
    disk_network: DiskKindLimits = NETWORK
    storage: StorageLimits = StorageLimits()
    link: LinkLimits = LinkLimits()
    gpu: GraphicsLimits = GraphicsLimits()

    def of_disk(self, kind: DiskKind) -> DiskKindLimits:
        """Return the service times of a kind of disk."""
        kinds: dict[DiskKind, DiskKindLimits] = {
            "spinning": self.disk_spinning,
            "solid": self.disk_solid,
            "card": self.disk_card,
            "network": self.disk_network,
        }
        return kinds[kind]
