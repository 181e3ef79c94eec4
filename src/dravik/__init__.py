"""Dravik: flight simulation for engineers. Tables in, aircraft as data, one compiled kernel.

``import dravik as dv``; everything below is loaded when it is first used, so the import stays light.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
