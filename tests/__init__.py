"""Tests. Property tests draw the same examples every time, so that a run says the same of the same
code.
"""

from hypothesis import settings

settings.register_profile("steady", derandomize=True)
settings.load_profile("steady")
