"""Flights: starts, control histories, devices, and the core that integrates from beat to beat."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
