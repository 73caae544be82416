"""The screen of a visit: what is sampled now, what it comes to, and what can be done about it.

Given a capture that grows (or one that is finished), it shows. It never samples, judges or acts
itself: children of this program do, and it reads what they say. So it imports no NumPy, and a
patient that is full of work hardly notices it. ``app`` alone loads the library of the screen.
"""

from dunmist.desk.judgement import PAGES as PAGES
from dunmist.desk.judgement import Judgement as Judgement
from dunmist.desk.visit import Visit as Visit
from dunmist.desk.visit import VisitOptions as VisitOptions
