"""The path of a route in an aircraft's world, and its height above the land."""

import math

from dravik.aircraft import Aircraft
from dravik.aircraft.ground_height import ground_height_of
from dravik.errors import DravikError
from dravik.guidance.path import Path, build_path
from dravik.guidance.route import Route
from dravik.units import in_si

__all__ = ["check_clearance", "path_over_land"]


def path_over_land(craft: Aircraft, route: Route, clearance: str | float | None = None) -> Path:
    """Return the path of a route in an aircraft's world: its origin, its wind, and room above its land.

    The turns are laid out for the wind at 10 m and above where it is given as a speed.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    route : Route
        The route.
    clearance : str or float, optional
        Least height above the ground, with its unit or in m; not looked at without.

    Returns
    -------
    Path

    Raises
    ------
    DravikError
        For turns without room, and for a path that comes nearer to the ground than ``clearance`` (m, or with its
        unit).

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.guidance import read_route
    >>> route = read_route(dv.aircraft.sample_path("pika") / "routes" / "fire_edge.toml")
    >>> len(path_over_land(dv.sample("pika"), route).points)
    12
    """
    world = craft.configuration.world
    wind = world.wind.speed if world.wind is not None else 0.0
    blows = wind if isinstance(wind, float) else 0.0
    path = build_path(route, origin=(world.latitude, world.longitude), wind=blows)
    if clearance is not None:
        check_clearance(craft, path, clearance)
    return path


def check_clearance(craft: Aircraft, path: Path, clearance: str | float) -> float:
    """Return the least height (m) of a path above the ground; raises DravikError where it is less than ``clearance``.

    Nothing is checked over a world without ground: then it is infinite.
    """
    wanted = in_si(clearance, "length", where="clearance")
    if craft.configuration.world.ground is None:
        return math.inf
    ground = ground_height_of(craft, craft.state(velocity=(1.0, 0.0, 0.0)), craft.default_inputs())
    least, (north, east, altitude) = path.clearance(ground)
    if least < wanted:
        raise DravikError(
            f"the route {path.name} comes {'within' if least > 0 else 'below'} {abs(least):.0f} m of the ground at "
            f"north {north:.0f} m, east {east:.0f} m, altitude {altitude:.0f} m", expected=f"{wanted:g} m or more",
            hint=f"{wanted - least:.0f} m higher there",
        )  # fmt: skip
    return least
