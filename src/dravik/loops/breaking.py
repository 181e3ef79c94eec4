"""Loops of an aircraft with its laws, broken at a signal."""

from collections.abc import Sequence

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.errors import DravikError
from dravik.linear import LinearSystem, linearise
from dravik.trimming import TrimPoint

__all__ = ["broken_loop"]


def broken_loop(craft: Aircraft, point: TrimPoint, at: str, *, outputs: Sequence[str] = ()) -> LinearSystem:
    """Return the open loop at a signal of an aircraft with its laws: what comes back of what is put in, sign turned.

    Everything that reads the signal reads what is injected; what is computed for it is the answer. With the sign turned
    the loop is closed by negative feedback, as ``margins`` takes it. More ``outputs`` follow the loop's own, with their
    own sign. Raises DravikError for a signal that nothing reads, and one whose loop is not closed: no law leads back.

    >>> import dravik as dv
    >>> craft = dv.sample("tarn").with_law(*dv.load_law(dv.aircraft.sample_path("tarn") / "laws" / "pitch_hold.toml"))
    >>> loop = broken_loop(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"), "elevator_command")
    >>> loop.inputs, loop.outputs
    (['elevator_command_injected'], ['elevator_command'])
    """
    at, more = arguments.names([at], "at")[0], arguments.names(outputs, "outputs")
    model = linearise(craft, point, broken=[at], outputs=[at, *more])
    found = model.part(inputs=[f"{at}_injected"], outputs=[at, *more])
    if not found.part(outputs=[at]).minimal().states and float(found.D[0, 0]) == 0.0:
        raise DravikError(f"what is put in at {at} does not come back", hint="engage the law that closes this loop")
    c, d = found.C.copy(), found.D.copy()
    c[0], d[0] = -c[0], -d[0]
    return LinearSystem(
        found.A, found.B, c, d, found.states, found.inputs, found.outputs, found.units, None, model.title
    )
