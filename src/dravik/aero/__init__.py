"""Aerodynamic builders: from a drawing or a wind tunnel to tables, and what tables say before they are trusted."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
