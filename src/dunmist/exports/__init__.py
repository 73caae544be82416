"""The figures of a capture for other programs: Parquet, CSV, OpenMetrics, OTLP.

Takes what was judged; nothing is computed here that the tables and series do not have.
"""

from dunmist.exports.writing import ENDINGS as ENDINGS
from dunmist.exports.writing import export_capture as export_capture
from dunmist.exports.writing import send_capture as send_capture
