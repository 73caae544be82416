"""Sample a slow or hot computer, rank the likely culprits and write a triage report.

The rooms follow the way of the data. ``computer`` reads what the kernel publishes, ``remote`` does
so over a transport, and ``sampling`` keeps time. ``captures`` stores; ``applications`` groups
processes; ``recorder`` keeps the last hour and incidents. ``series`` computes, ``diagnosis``
judges, ``compare`` compares and ``advice`` explains. ``tables``, ``reports`` and ``exports`` give
it a form. ``fixing`` acts, ``jobs`` ties the rooms together, ``fleet`` runs many triages, and
``simulation`` is a model computer. ``cli`` is the only room that knows a terminal. See
``docs/architecture.md``.
"""

__version__ = "0.1.0"
