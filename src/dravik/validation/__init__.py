"""What judges a flight or is judged by one: proofs of trims and linear models, loops flown, scorecards, landings."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
