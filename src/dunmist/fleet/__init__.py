"""Many captures at once: each is triaged by the very code that triages one, on a cluster.

``places`` finds them, ``one`` makes a record of each, ``engine`` has them made side by side,
``done`` remembers what was made already, ``dataset`` writes the tables, ``summary`` counts,
``report`` words it.
"""
