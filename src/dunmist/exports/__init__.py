"""The figures of a capture for other programs: Parquet, CSV, OpenMetrics, OTLP.

Takes what was judged; nothing is computed here that the tables and series do not have.
"""

from dunmist.exports.writing import ENDINGS, export_capture, send_capture

__all__ = ["ENDINGS", "export_capture", "send_capture"]
