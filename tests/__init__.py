"""Tests of Dravik."""

import os

from hypothesis import settings

# no deadline: the first example of a kind compiles or loads something; and what guards a landing must not hang on luck:
# there, the same examples every time
settings.register_profile("landing", derandomize=True, deadline=None)
settings.register_profile("work", deadline=None)
settings.load_profile("landing" if os.environ.get("CI") else "work")
