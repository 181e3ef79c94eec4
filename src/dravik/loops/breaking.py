"""Loops of an aircraft with its laws, broken at a signal."""

from collections.abc import Sequence

import numpy as np

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.errors import DravikError
from dravik.linear import LinearSystem, linearise
from dravik.trimming import TrimPoint

__all__ = ["broken_loop"]


def broken_loop(
    craft: Aircraft, point: TrimPoint, at: str | Sequence[str], *, outputs: Sequence[str] = ()
) -> LinearSystem:  # fmt: skip
    """Return the open loop at a signal of an aircraft with its laws: what comes back of what is put in, sign turned.

    Everything that reads the signal reads what is injected; what is computed for it is the answer. With the sign turned
    the loop is closed by negative feedback, as ``margins`` takes it. Several signals are broken at once, for
    ``several_margins``. More ``outputs`` follow the loop's own, with their own sign. Raises DravikError for a signal
    that nothing reads, and one whose loop is not closed: no law leads back.

    >>> import dravik as dv
    >>> craft = dv.sample("tarn").with_law(*dv.load_law(dv.aircraft.sample_path("tarn") / "laws" / "pitch_hold.toml"))
    >>> loop = broken_loop(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"), "elevator_command")
    >>> loop.inputs, loop.outputs
    (['elevator_command_injected'], ['elevator_command'])
    """
    broken, more = arguments.names([at] if isinstance(at, str) else at, "at"), arguments.names(outputs, "outputs")
    if not broken:
        raise DravikError("no signal to break at", expected="one or more, such as 'elevator_command'")
    model = linearise(craft, point, broken=broken, outputs=[*broken, *more])
    found = model.part(inputs=[f"{n}_injected" for n in broken], outputs=[*broken, *more])
    for k, name in enumerate(broken):
        if not found.part(outputs=[name]).minimal().states and not np.any(found.D[k]):
            raise DravikError(
                f"what is put in at {name} does not come back", hint="engage the law that closes this loop"
            )
    c, d, n = found.C.copy(), found.D.copy(), len(broken)
    c[:n], d[:n] = -c[:n], -d[:n]
    return LinearSystem(
        found.A, found.B, c, d, found.states, found.inputs, found.outputs, found.units, None, model.title
    )
