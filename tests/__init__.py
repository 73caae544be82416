"""Tests of Dunmist. ``python -m tests`` runs them all against the installed program."""
