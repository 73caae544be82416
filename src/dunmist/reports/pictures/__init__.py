"""Pictures of a capture, drawn by Matplotlib: for views and for the report.

Each takes what was judged, gives a Matplotlib figure; nothing is computed here that the
tables do not have. Colours differ for the colour-blind and in grey, lines also by their
pattern. Imported only where a picture is drawn.
"""

from collections.abc import Callable

from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.cores import draw_cores as draw_cores
from dunmist.reports.pictures.devices import draw_disks as draw_disks
from dunmist.reports.pictures.devices import draw_links as draw_links
from dunmist.reports.pictures.heat import draw_heat as draw_heat
from dunmist.reports.pictures.limiting import draw_limiting as draw_limiting
from dunmist.reports.pictures.memory import draw_memory as draw_memory
from dunmist.reports.pictures.months import draw_months as draw_months
from dunmist.reports.pictures.normal import draw_against_normal as draw_against_normal
from dunmist.reports.pictures.one_process import draw_process
from dunmist.reports.pictures.saving import check_picture as check_picture
from dunmist.reports.pictures.saving import png_bytes as png_bytes
from dunmist.reports.pictures.saving import save_picture as save_picture
from dunmist.reports.pictures.saving import svg_text as svg_text
from dunmist.reports.pictures.shares import draw_shares as draw_shares
from dunmist.reports.pictures.start import draw_start
from dunmist.reports.pictures.timeline import draw_timeline as draw_timeline
from dunmist.reports.pictures.work import draw_work as draw_work
from dunmist.series import Process

Drawer = Callable[[Judged, Process | None], Figure]

# topic of a view, and its picture
PICTURES: dict[str, Drawer] = {
    "processes": draw_shares,
    "process": draw_process,
    "cores": draw_cores,
    "memory": draw_memory,
    "heat": draw_heat,
    "disks": draw_disks,
    "links": draw_links,
    "boot": draw_start,
    "doing": draw_work,
    "timeline": draw_timeline,
}
