"""An aircraft some of whose states stand still, for proofs of what does not last: a battery at its charge."""

from collections.abc import Collection
from copy import copy

from dravik.aircraft.craft import Aircraft

__all__ = ["standing_still"]


def standing_still(craft: Aircraft, names: Collection[str]) -> Aircraft:
    """Return the aircraft whose states of some names, such as a battery's charge, keep their value in flight.

    >>> import dravik as dv
    >>> frozen = standing_still(dv.sample("pika"), ["charge_pack"])
    >>> frozen.state_names == dv.sample("pika").state_names
    True
    """
    return copy(craft)._with(craft._built.standing_still(names)) if names else craft
