"""An aircraft in the surroundings in which a point of it was found."""

from dataclasses import replace

from dravik.aircraft.craft import Aircraft

__all__ = ["in_air_of"]


def in_air_of(craft: Aircraft, other: Aircraft) -> Aircraft:
    """Return an aircraft in the environment of another, unless its own has been changed.

    A point that was trimmed in a wind or on a hot day holds there alone: what is done with it by an aircraft that is
    still in the environment of its file is done there too. An aircraft that was given another environment keeps it.
    """
    own, theirs = craft.configuration, other.configuration
    if own.world is not craft.definition.environment or theirs.world == own.world:
        return craft
    if replace(theirs, world=own.world) == own:
        return other
    return craft.with_environment(**{name: getattr(theirs.world, name) for name in theirs.world.model_fields_set})
