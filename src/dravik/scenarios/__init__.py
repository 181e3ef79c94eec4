"""Scenarios: files that say what is flown, from where, in what world, by whom, and what goes wrong."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
