"""Many captures at once: each is triaged by the very code that triages one, on a cluster.

``capture_locations`` finds captures, ``capture_record`` makes a record of each, and ``engine``
spreads the work. ``result_cache`` keeps finished records, ``dataset`` writes the tables,
``summary`` counts, and ``report`` words it.
"""
