"""Dunmist samples a slow or hot computer, ranks the likely culprits and writes a triage report.

The rooms follow the way of the data: ``computer`` reads, ``sampling`` keeps time, ``captures``
stores, ``applications`` groups, ``series`` computes, ``diagnosis`` judges, ``advice`` explains,
``reports`` writes; ``simulation`` is a model computer and ``cli`` the only room with a terminal.
``docs/architecture.md`` has the map.
"""

__version__ = "0.1.0"
