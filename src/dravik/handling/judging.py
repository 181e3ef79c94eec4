"""Handling qualities of an aircraft at a trimmed point: all requirements that apply, and the level."""

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, nearest, require
from dravik.handling.criteria import CATEGORIES, CLASSES, Assessment
from dravik.handling.modal import modal_criteria
from dravik.linear import LinearModel, linearise
from dravik.trimming import TrimPoint

__all__ = ["handling_qualities"]


def handling_qualities(
    craft: Aircraft, point: TrimPoint, *, aircraft_class: str = "II-L", category: str = "B",
    model: LinearModel | None = None,
) -> Assessment:  # fmt: skip
    """Return the modal requirements of MIL-F-8785C for an aircraft at a trimmed point.

    ``aircraft_class`` is one of CLASSES, ``category`` (of the flight phase) one of CATEGORIES. Raises DravikError for
    others, and in hover or steep flight, of which these requirements do not speak.

    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> dv.handling_qualities(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m")).level
    1
    """
    require(craft, Aircraft, "what is judged")
    require(point, TrimPoint, "the point to judge at", "trim(craft, ...)")
    for value, choices, what in ((aircraft_class, CLASSES, "class"), (category, CATEGORIES, "category")):
        if value not in choices:
            raise DravikError(
                f"{what} {value!r}",
                expected="one of " + ", ".join(choices),
                hint=nearest(value.upper(), choices),
            )
    if point.coordinates == "body":
        raise DravikError(f"no requirement of MIL-F-8785C at {point.title}", expected="flight on a wing")
    if model is None or "nz" not in model.outputs:
        model = linearise(craft, point, outputs=["nz"])
    criteria = modal_criteria(model, aircraft_class, category)
    return Assessment(f"{craft.name}, {point.title}", aircraft_class, category, criteria)
