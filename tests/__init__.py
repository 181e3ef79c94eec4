"""Tests of Dravik."""

import os

from hypothesis import settings

# what guards a landing must not hang on luck: there, the same examples every time
settings.register_profile("landing", derandomize=True)
if os.environ.get("CI"):
    settings.load_profile("landing")
