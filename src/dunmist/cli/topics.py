"""The topics of ``dunmist view``, by name alone: help and completion import nothing heavy."""

# the tables of each are in dunmist.tables.TOPICS; 'process' is a page, not a table
PROCESS = "process"
TOPICS = ("processes", PROCESS, "cores", "memory", "heat", "ports", "disks", "links", "services",
          "autostart", "sessions", "machine", "timeline")  # fmt: skip
