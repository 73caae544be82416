"""Tests of Dunmist. ``python -m tests`` runs them all against the installed program."""

from hypothesis import HealthCheck, settings

# a machine that is busy with something else is no reason to fail
settings.register_profile("noisy", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("noisy")
