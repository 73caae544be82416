"""The flight recorder: a ring of segments on disk, and incidents that are kept apart from it.

Takes the records of sampling, gives files that are captures like any other. It runs on the
patient's computer for days, so it imports nothing that only the analysis needs, and judges nothing.
Light rules on the kernel's own figures say when something is worth keeping.
"""

from dunmist.recorder.cpu_temperature import CpuTemperature as CpuTemperature
from dunmist.recorder.cpu_temperature import lost_clock as lost_clock
from dunmist.recorder.extraction import Cut as Cut
from dunmist.recorder.extraction import TimeWindow as TimeWindow
from dunmist.recorder.extraction import cut as cut
from dunmist.recorder.gauges import Gauge as Gauge
from dunmist.recorder.incidents import CUT_OFF as CUT_OFF
from dunmist.recorder.incidents import Incidents as Incidents
from dunmist.recorder.incidents import Keeping as Keeping
from dunmist.recorder.incidents import Kept as Kept
from dunmist.recorder.incidents import TickTime as TickTime
from dunmist.recorder.incidents import capture_of as capture_of
from dunmist.recorder.incidents import drop as drop
from dunmist.recorder.incidents import incident_bytes as incident_bytes
from dunmist.recorder.incidents import keep as keep
from dunmist.recorder.incidents import read_incidents as read_incidents
from dunmist.recorder.incidents import write_kept as write_kept
from dunmist.recorder.latest_state import Known as Known
from dunmist.recorder.live_view import LiveApplication as LiveApplication
from dunmist.recorder.live_view import LiveProcess as LiveProcess
from dunmist.recorder.live_view import Now as Now
from dunmist.recorder.marks import Mark as Mark
from dunmist.recorder.marks import Marks as Marks
from dunmist.recorder.marks import send_mark as send_mark
from dunmist.recorder.ring import Limits as Limits
from dunmist.recorder.ring import Ring as Ring
from dunmist.recorder.ring import Segment as Segment
from dunmist.recorder.ring import cut_off_run as cut_off_run
from dunmist.recorder.ring import of_the_run as of_the_run
from dunmist.recorder.ring import read_segments as read_segments
from dunmist.recorder.rules import Rule as Rule
from dunmist.recorder.rules import Rules as Rules
from dunmist.recorder.rules import load_watch_rules as load_watch_rules
from dunmist.recorder.socket_owners import SocketOwners as SocketOwners
