"""Keep the hourly sums of this computer over months.

Takes the records of a recorder or of a capture, gives periods: an hour or a day each. This module
imports nothing heavy, as the recorder uses it; ``past`` and ``drifts`` compute with NumPy.
"""

from dunmist.history.database import Damaged as Damaged
from dunmist.history.database import History as History
from dunmist.history.opening import forget as forget
from dunmist.history.opening import open_history as open_history
from dunmist.history.opening import put_aside as put_aside
from dunmist.history.opening import read_given as read_given
from dunmist.history.opening import read_history as read_history
from dunmist.history.schema import Identity as Identity
from dunmist.history.schema import identity_of as identity_of
from dunmist.history.summing import Summing as Summing
from dunmist.history.summing import Wall as Wall
from dunmist.history.summing import events_of as events_of
from dunmist.history.summing import wall_of as wall_of
from dunmist.history.sums import DAY_S as DAY_S
from dunmist.history.sums import HOUR_S as HOUR_S
from dunmist.history.sums import OTHERS as OTHERS
from dunmist.history.sums import ApplicationSum as ApplicationSum
from dunmist.history.sums import DiskSum as DiskSum
from dunmist.history.sums import Event as Event
from dunmist.history.sums import HeatSum as HeatSum
from dunmist.history.sums import Level as Level
from dunmist.history.sums import Period as Period
from dunmist.history.sums import Piece as Piece
from dunmist.history.sums import ResourceSum as ResourceSum
from dunmist.history.sums import quantile as quantile
