"""Patients that are drawn at random, and hard ones near the limit, for benchmarks and tests."""

from .generator import illness_of as illness_of
from .generator import random_scenario as random_scenario
from .hard_cases import LIMITED as LIMITED
from .hard_cases import hard_patient as hard_patient
