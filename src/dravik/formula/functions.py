"""The functions a formula may call, with what they mean; the documentation's list is made from here."""

import math
from typing import NamedTuple

__all__ = ["CONSTANTS", "FUNCTIONS", "Function"]

#: Constants of the language. ``deg`` turns degrees into radians: ``3*deg``.
CONSTANTS: dict[str, float] = {"pi": math.pi, "deg": math.pi / 180.0}


class Function(NamedTuple):
    """A function of the language.

    ``op`` is the instruction it becomes; a function with states has none. ``through`` lists the
    arguments that its value needs at the same instant: the others only move its states, so a loop
    of formulas that closes through them is no algebraic loop.
    """

    arguments: tuple[str, ...]
    meaning: str
    op: str = ""
    defaults: tuple[float, ...] = ()
    through: tuple[int, ...] = ()
    stateful: bool = False
    variadic: bool = False


def _plain(arguments: str, meaning: str, op: str, *, variadic: bool = False) -> Function:
    return Function(tuple(arguments.split()), meaning, op, variadic=variadic)


def _dynamic(arguments: str, meaning: str, defaults: tuple[float, ...] = (), through: tuple[int, ...] = ()) -> Function:
    return Function(tuple(arguments.split()), meaning, "", defaults, through, stateful=True)


FUNCTIONS: dict[str, Function] = {
    "sin": _plain("x", "sine of an angle in rad", "sin"),
    "cos": _plain("x", "cosine of an angle in rad", "cos"),
    "tan": _plain("x", "tangent of an angle in rad", "tan"),
    "asin": _plain("x", "angle in rad whose sine is x", "asin"),
    "acos": _plain("x", "angle in rad whose cosine is x", "acos"),
    "atan": _plain("x", "angle in rad whose tangent is x", "atan"),
    "atan2": _plain("y x", "angle in rad of the point (x, y)", "atan2"),
    "sinh": _plain("x", "hyperbolic sine", "sinh"),
    "cosh": _plain("x", "hyperbolic cosine", "cosh"),
    "tanh": _plain("x", "hyperbolic tangent", "tanh"),
    "exp": _plain("x", "e to the power x", "exp"),
    "log": _plain("x", "natural logarithm", "log"),
    "log10": _plain("x", "logarithm to base 10", "log10"),
    "sqrt": _plain("x", "square root", "sqrt"),
    "abs": _plain("x", "size without sign", "abs"),
    "sign": _plain("x", "-1, 0 or 1", "sign"),
    "floor": _plain("x", "next whole number below", "floor"),
    "mod": _plain("x y", "remainder of x / y, with the sign of y", "mod"),
    "hypot": _plain("x y", "square root of x**2 + y**2", "hypot"),
    "wrap": _plain("x", "the same angle between -pi and pi", "wrap"),
    "min": _plain("x y", "the smallest of two or more", "min", variadic=True),
    "max": _plain("x y", "the largest of two or more", "max", variadic=True),
    "limit": _plain("x low high", "x held between low and high", "limit"),
    # shifted, so that the value leaves zero without a jump: a stick with a dead zone must not kick
    "deadzone": _plain("x width", "0 within ±width, shifted towards 0 outside", "deadzone"),
    "if_else": _plain("condition yes no", "yes where the condition holds, otherwise no", "if_else"),
    "integral": _dynamic(
        "x initial low high",
        "integral of x over time from initial; held between low and high, and x is not gathered "
        "while it pushes against a limit (anti-windup)",
        (0.0, -math.inf, math.inf),
        through=(2, 3),
    ),
    # limits pass at once (through), because the value is held within them at the same instant
    "integral_while": _dynamic(
        "x condition time_constant initial low high",
        "an integral while the condition is true, which otherwise goes back to initial with the time constant",
        (0.0, -math.inf, math.inf),
        through=(4, 5),
    ),
    "state": _dynamic(
        "rate initial low high",
        "a state that moves at this rate, from initial, held between low and high; unlike an integral's, "
        "a trim finds the value at which it stands still",
        (0.0, -math.inf, math.inf),
        through=(2, 3),
    ),
    # first order in its states: the value is the state itself, so a lag in a loop of formulas breaks the loop
    "lag": _dynamic("x time_constant", "first-order lag 1/(T s + 1)"),
    "washout": _dynamic("x time_constant", "high pass T s/(T s + 1)", through=(0,)),
    "lead_lag": _dynamic("x lead lag", "(lead s + 1)/(lag s + 1)", through=(0, 1, 2)),
    "second_order": _dynamic("x frequency damping", "w**2/(s**2 + 2 damping w s + w**2), frequency w in rad/s"),
    "rate_limit": _dynamic(
        "x rate time_constant",
        "x followed at most at ±rate a second, with a first-order lag (0.02 s unless given)",
        (0.02,),
    ),
    "delay": _dynamic(
        "x time",
        "pure delay as the second-order Padé fraction, good to frequencies of about 3/time",
        through=(0, 1),
    ),
    # memory: these change between the integrator's steps only
    "sampled": _dynamic(
        "x period delay",
        "x as it was at the last sample: one each period (s), read delay (s, at most a period) later",
        (0.0,),
        through=(0,),
    ),
    "previous": _dynamic("x period", "x at the sample before, one each period (s): for difference equations", (0.0,)),
    "moving_average": _dynamic(
        "x count period", "mean of the last count samples, one each period (s)", (0.0,), through=(0,)
    ),
    "hold_while": _dynamic("x condition", "x, held at its last value while the condition is true", through=(0, 1)),
    "latch": _dynamic("on off initial", "1 from when on has been true until off is; off wins", (0.0,)),
    "hysteresis": _dynamic(
        "x low high initial", "1 once x is above high, 0 once it is below low, in between as before", (0.0,)
    ),
    "debounce": _dynamic(
        "condition time initial", "the condition once it has been the same for a time (s), until then as before", (0.0,)
    ),
    "counter": _dynamic("condition reset", "how often the condition has become true; reset sets it to 0", (0.0,)),
    "timer": _dynamic("condition", "for how long (s) the condition has been true without a break", through=(0,)),
    "blend": _dynamic(
        "x key time_constant",
        "x without a jump when key changes: the difference to the value before fades with the time constant",
        through=(0, 1, 2),
    ),
}
