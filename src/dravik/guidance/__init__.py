"""Where to fly: routes, their paths over the ground, the device that follows one; points in space for rockets."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
