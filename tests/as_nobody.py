"""Runs the program without privilege: everything it may import is loaded, then rights are given up.

The interpreter's own files may lie where only the administrator can read them.
"""

import os
import pkgutil
import sys
from importlib import import_module

import dunmist
from dunmist.captures import load_rules
from dunmist.cli.main import run

# what a capture does not need
HEAVY = (
    "dunmist.series",
    "dunmist.diagnosis",
    "dunmist.advice",
    "dunmist.tables",
    "dunmist.reports",
    "dunmist.fixing",
    "dunmist.jobs.acts",
    "dunmist.jobs.selection",
    "dunmist.jobs.judge",
    "dunmist.jobs.measure",
    "dunmist.jobs.patient",
    "dunmist.cli.fix_actions",
    "dunmist.cli.charts",
    "dunmist.cli.process_page",
    "dunmist.cli.reporting",
    "dunmist.cli.selecting",
    "dunmist.cli.table_text",
    "dunmist.cli.viewing",
)
NOBODY = 65534

if __name__ == "__main__":
    for module in pkgutil.walk_packages(dunmist.__path__, "dunmist."):
        if not module.name.startswith(HEAVY) and module.name != "dunmist.__main__":
            import_module(module.name)
    import_module("ipaddress")
    import_module("platformdirs.unix")
    load_rules()
    os.setgroups([])
    os.setgid(NOBODY)
    os.setuid(NOBODY)
    sys.argv[0] = "dunmist"
    run()
