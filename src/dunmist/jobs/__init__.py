"""Carry out each job from beginning to end, through the rooms.

The command line, tests and benchmarks call these. Nothing here knows that a terminal exists: the
caller passes in what follows the progress of a job. Heavy rooms are imported by the job that needs
them, so that a capture loads none of them.
"""

from dunmist.jobs.capture import CaptureOptions as CaptureOptions
from dunmist.jobs.capture import run_capture as run_capture
from dunmist.jobs.settings import journal_path as journal_path
