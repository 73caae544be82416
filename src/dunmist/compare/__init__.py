"""Compares captures: what differs between them beyond noise.

Takes examined captures, gives a ``Comparison`` of two or what is ``Unusual`` beside several, as
figures and keys. It words nothing: advice does.
"""

from dunmist.compare.baseline import Odd, Range, Unusual, unusual
from dunmist.compare.comparable import Hindrance, Match
from dunmist.compare.crossover_trial import Alternated, Design, Experiment, Phase, draw_order
from dunmist.compare.figures import Examined, Figure, place_of
from dunmist.compare.following import Following
from dunmist.compare.improvement import Comparison, compare
from dunmist.compare.proof import Proof, ProofAnswer, proof_of
from dunmist.compare.resampling import CHANCE_MOST, difference_of_means
from dunmist.compare.significance import Difference

__all__ = [
    "CHANCE_MOST",
    "Alternated",
    "Comparison",
    "Design",
    "Difference",
    "Examined",
    "Experiment",
    "Figure",
    "Following",
    "Hindrance",
    "Match",
    "Odd",
    "Phase",
    "Proof",
    "ProofAnswer",
    "Range",
    "Unusual",
    "compare",
    "difference_of_means",
    "draw_order",
    "place_of",
    "proof_of",
    "unusual",
]
