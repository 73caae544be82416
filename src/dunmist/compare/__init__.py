"""Compares captures: what differs between them beyond noise.

Takes examined captures, gives a ``Comparison`` of two or what is ``Unusual`` against several, as
figures and keys. It words nothing: advice does.
"""

from dunmist.compare.baseline import Odd as Odd
from dunmist.compare.baseline import Range as Range
from dunmist.compare.baseline import Unusual as Unusual
from dunmist.compare.baseline import unusual as unusual
from dunmist.compare.comparable import Hindrance as Hindrance
from dunmist.compare.comparable import Match as Match
from dunmist.compare.crossover_trial import Alternated as Alternated
from dunmist.compare.crossover_trial import Design as Design
from dunmist.compare.crossover_trial import Experiment as Experiment
from dunmist.compare.crossover_trial import Phase as Phase
from dunmist.compare.crossover_trial import draw_order as draw_order
from dunmist.compare.figures import Examined as Examined
from dunmist.compare.figures import Figure as Figure
from dunmist.compare.figures import resource_key as resource_key
from dunmist.compare.following import Following as Following
from dunmist.compare.improvement import Comparison as Comparison
from dunmist.compare.improvement import compare as compare
from dunmist.compare.past_hours import unusual_against_hours as unusual_against_hours
from dunmist.compare.proof import Proof as Proof
from dunmist.compare.proof import ProofAnswer as ProofAnswer
from dunmist.compare.proof import proof_of as proof_of
from dunmist.compare.resampling import CHANCE_MOST as CHANCE_MOST
from dunmist.compare.resampling import difference_of_means as difference_of_means
from dunmist.compare.significance import Difference as Difference
