"""What the kernel reads (a program, never written to) and what it works in (a workspace, one for each user)."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import ClassVar, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.constants import STANDARD_GRAVITY
from dravik.formula.arrange import Stage
from dravik.formula.layout import Tape
from dravik.formula.opcodes import ARITY
from dravik.kernel.signals import BASE_SIGNALS, RIGID_STATES

__all__ = ["AXES", "PointLoad", "Program", "RigidBody", "Workspace", "build_program", "new_workspace"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Axes in which coefficients may be given.
AXES = {"body": 0, "stability": 1, "wind": 2}
#: Kinds of loads, in the order of the numbers the kernel knows them by.
LOADS_BY_KIND = ("force", "moment", "flow", "spin")
N_RIGID = len(RIGID_STATES)
N_BASE = len(BASE_SIGNALS)
EVENT_CAPACITY = 512
_ANGLES = ("phi", "theta", "psi", "flight_path", "track", "ground_speed", "climb_rate", "latitude", "longitude")
# the first counters are flags; visits outside each axis of the tables follow from FLAGS on
# FLYING: memories are read; otherwise what they would take over
(COUNTING, OUTSIDE_TABLE, EVENT_COUNT, STOP_EVENT, FOUND, PAUSED, FLYING, NOT_FINITE, OWN_DEVICE, FLAGS) = range(10)
# action of an event beside being logged: end the run there, or pause it at the end of the step
END, PAUSE = 1, 2


class _Program(NamedTuple):
    code: NDArray[np.int32]
    layout: Ints
    numbers: Floats


class Program(_Program):
    """An aircraft as the kernel sees it, packed into three arrays so that passing it costs nothing.

    ``code`` is the tape. ``layout`` begins with numbers named by the constants of this module: counts,
    registers, and where each section of ``layout`` or ``numbers`` begins. ``numbers`` begins with gravity,
    temperature offset, area, chord, span and the moment point; then the origin, loads, axes, and table values.
    """

    __slots__ = ()
    kinds: ClassVar = ("i4:2", "i8:1", "f8:1")


class _Workspace(NamedTuple):
    registers: Floats  # the tape's registers
    counters: Ints  # flags, then visits outside each axis
    worst: Floats  # for each axis looked up: lowest and highest argument, argument that was an error
    slopes: Floats  # four slopes of the integrator, stage state, last good state with its slope, one in between
    inputs: Floats  # inputs half way through a step, at its start, at its end, somewhere in it
    events: Floats  # each condition's last value and whether it is new, then a log of time and condition
    memory: Floats  # for each cell: what it holds next, and what it held before a row that is recorded ahead
    own: Floats  # what a device of compiled code works in: first its interval in steps, see kernel.own_device


class Workspace(_Workspace):
    """Arrays the kernel writes to; one for each caller, so that several never touch each other."""

    __slots__ = ()
    kinds: ClassVar = ("f8:1", "i8:1", "f8:2", "f8:2", "f8:2", "f8:2", "f8:2", "f8:1")


# where each stage of the tape ends, in the order of ``formula.arrange.Stage``
(END_WIND, END_STATES, END_ANGLE_RATES, END_ACCELERATIONS, END_RECORDED) = range(5)
(N_INPUTS, WIND, FORCE_AXES, MOMENT_AXES) = range(5, 9)
(N_STATES, N_LOADS, N_EVENTS, USES_ANGLES) = range(9, 13)
# extent of an evaluation: what the motion needs, the kernel's own signals too, or every formula
(MOTION, SIGNALS, EVERYTHING) = range(3)
# where sections of ``layout`` begin
(STATES, RATES, LOWS, HIGHS, MASS, AERO, LOADS, LOAD_KINDS, EVENTS, EVENT_ACTIONS) = range(13, 23)
(AXIS_START, AXIS_SIZE, TABLE_START, TABLE_INTO, SHAPES) = range(23, 28)
# where the mass properties stand among the thirteen registers of the section MASS: the mass itself is the first
(CENTRE, INERTIA, PRODUCTS, CENTRE_RATE) = (1, 4, 7, 10)
RAIL = 28  # the register that tells whether a rail guides the body, -1 without one
ROUND = 29  # 1: the Earth is the rotating ellipsoid
FIELD = 30  # where the registers of the wind's formulas north, east and up stand in ``layout``, -1 without them
USES_BETA_DOT = 31
OWN_AIR = 32  # where the registers of formulas of temperature, pressure, density stand in ``layout``, -1 without them
# cells of memory: how many, and where their sections begin; of each the
# register, its next value's, the start's, whether it is 1 quiet, 2 quiet and the last to change, and its rank
(N_CELLS, CELLS, CELL_NEXT, CELL_START, CELL_QUIET, CELL_RANK, N_RANKS) = range(33, 40)
CELL_TIMES = 40  # where period and lateness (s) of each cell stand in ``numbers``
TAPE_CODE = 41  # the addresses of the five stages' machine code, 0 where the interpreter runs
INTERPRETER, EVALUATE = 46, 47  # the addresses of ``run_tape`` and ``evaluate``, once the program is linked
# registers that must be finite: how many, where they begin; where those begin that must be while conditions hold
(N_FINITE, FINITE, FINITE_IF) = range(48, 51)
CELL_STREAM = 51  # the stream of normal numbers of each cell, -1 of one that is not random
CELL_RANDOM = 52  # where share kept, scale and scale at first of each random cell stand in ``numbers``
HEADER = 53
# ``own`` of a workspace: steps between two calls, how many inputs it sets, where their places stand, where their values
(OWN_EVERY, OWN_COUNT, OWN_INTO, OWN_VALUES) = range(4)
OWN_HEADER = 8  # numbers before what is the device's own
# ``numbers``
(GRAVITY, TEMPERATURE_OFFSET, AREA, CHORD, SPAN, MOMENT_POINT) = range(6)
# the origin: its latitude and longitude, the radii (m) of its meridian and its parallel; the sea above the ellipsoid
(LATITUDE_0, LONGITUDE_0, MERIDIAN, PARALLEL, SEA_LEVEL) = range(8, 13)
LOAD_VECTORS = 13


@dataclass(frozen=True)
class PointLoad:
    """A force or moment along a fixed body direction at a point; ``register`` holds its size in N or N m.

    ``kind`` is ``force``, ``moment``, ``flow``: a mass flow (kg/s) that runs along ``direction`` (m) through the
    body, its middle at ``position``, or ``spin``: the angular momentum (N m s) of what turns about
    ``direction`` in the body.
    """

    register: int
    direction: tuple[float, float, float]
    position: tuple[float, float, float] = (0.0, 0.0, 0.0)
    kind: str = "force"


@dataclass(frozen=True)
class RigidBody:
    """The registers and numbers that turn a tape into a moving body; positions in body axes from the datum.

    ``events`` are the registers of conditions, and what each does: 0 is logged, END, PAUSE.
    """

    mass_registers: Sequence[int]
    inputs: int = 6
    wind: int = N_BASE
    aero_registers: Sequence[int] = (-1, -1, -1, -1, -1, -1)
    force_axes: str = "body"
    moment_axes: str = "body"
    area: float = 1.0
    chord: float = 1.0
    span: float = 1.0
    moment_point: tuple[float, float, float] = (0.0, 0.0, 0.0)
    loads: Sequence[PointLoad] = ()
    gravity: float = STANDARD_GRAVITY
    temperature_offset: float = 0.0
    events: Sequence[tuple[int, int]] = field(default_factory=tuple)
    rail: int = -1
    is_round: bool = False
    origin: tuple[float, float] = (0.0, 0.0)
    radii: tuple[float, float] = (1.0, 1.0)  # m: of the meridian and of the parallel through the origin
    sea_level: float = 0.0
    wind_field: Sequence[int] = ()
    own_air: Sequence[int] = ()


def _reads(tape: Tape, stop: int, names: Sequence[str]) -> bool:
    """Whether an instruction before ``stop`` has one of these signals as an argument."""
    wanted = [tape.names[n] for n in names if n in tape.names]
    rows = tape.code[:stop]
    counts = np.array([ARITY[op] for op in rows[:, 0].tolist()], dtype=np.int64)
    arguments = rows[:, 2 : 2 + max(ARITY.values())]
    is_one = np.arange(arguments.shape[1]) < counts[:, np.newaxis]
    return bool(np.any(is_one & np.isin(arguments, wanted)))


def build_program(tape: Tape, body: RigidBody) -> Program:
    """Return the program of a body whose formulas stand on ``tape``."""
    loads = [number for load in body.loads for number in (*load.direction, *load.position)]
    breaks_at = LOAD_VECTORS + len(loads)
    values_at = breaks_at + len(tape.breaks)
    times = np.array([number for cell in tape.cells for number in (cell.period, cell.late)], dtype=float)
    chances = [n for c in tape.cells for n in (c.random[1:] if c.random else (0.0, 0.0, 0.0))]
    # order as in the constants GRAVITY to SEA_LEVEL above
    numbers = [
        body.gravity,
        body.temperature_offset,
        body.area,
        body.chord,
        body.span,
        *body.moment_point,
        *body.origin,
        *body.radii,
        body.sea_level,
        *loads,
    ]
    sections: dict[int, Sequence[int]] = {
        STATES: [s.register for s in tape.states],
        RATES: [s.rate for s in tape.states],
        LOWS: [s.low for s in tape.states],
        HIGHS: [s.high for s in tape.states],
        MASS: body.mass_registers,
        AERO: body.aero_registers,
        LOADS: [load.register for load in body.loads],
        LOAD_KINDS: [LOADS_BY_KIND.index(load.kind) for load in body.loads],
        EVENTS: [register for register, _ in body.events],
        EVENT_ACTIONS: [action for _, action in body.events],
        AXIS_START: [int(i) + breaks_at for i in tape.axis_start],
        AXIS_SIZE: [int(i) for i in tape.axis_size],
        TABLE_START: [int(i) + values_at for i in tape.table_start],
        CELLS: [c.register for c in tape.cells],
        CELL_NEXT: [c.next for c in tape.cells],
        CELL_START: [c.start for c in tape.cells],
        CELL_RANK: [c.rank for c in tape.cells],
        CELL_STREAM: [c.random.stream if c.random else -1 for c in tape.cells],
        FINITE: tape.watched.always,
        FINITE_IF: tape.watched.encoded(),
        CELL_QUIET: [2 if c.last else int(c.quiet) for c in tape.cells],
    }
    layout = [0] * HEADER
    layout[END_WIND : END_RECORDED + 1] = tape.stages
    layout[N_FINITE] = len(tape.watched.always)
    layout[RAIL], layout[ROUND] = body.rail, int(body.is_round)
    layout[N_INPUTS], layout[WIND] = body.inputs, body.wind
    layout[FORCE_AXES], layout[MOMENT_AXES] = AXES[body.force_axes], AXES[body.moment_axes]
    layout[N_STATES], layout[N_LOADS], layout[N_EVENTS] = len(tape.states), len(body.loads), len(body.events)
    # Euler angles and the like cost trigonometry: computed in the integrator's stages only if a load needs them
    layout[USES_ANGLES] = int(_reads(tape, tape.stages[Stage.ACCELERATIONS], _ANGLES))
    layout[N_RANKS] = 1 + max((c.rank for c in tape.cells), default=0)
    layout[N_CELLS], layout[CELL_TIMES] = len(tape.cells), values_at + len(tape.values)
    layout[CELL_RANDOM] = layout[CELL_TIMES] + len(times)
    layout[USES_BETA_DOT] = int(_reads(tape, tape.stages[Stage.ANGLE_RATES], ("beta_dot", "beta_dot_hat")))
    for key, values in sections.items():
        layout[key] = len(layout)
        layout.extend(values)
    layout[FIELD] = len(layout) if body.wind_field else -1
    layout.extend(body.wind_field)
    layout[OWN_AIR] = len(layout) if body.own_air else -1
    layout.extend(body.own_air)
    for key, lists in ((TABLE_INTO, tape.table_into), (SHAPES, tape.shapes)):
        # first the index of each list, then the lists themselves
        layout[key] = len(layout)
        ends = layout[key] + np.cumsum([len(lists), *(len(item) for item in lists)])
        layout.extend([*(int(e) for e in ends[:-1]), *(i for item in lists for i in item)])
    return Program(
        code=tape.code,
        layout=np.array(layout, dtype=np.int64),
        numbers=np.concatenate([np.array(numbers, dtype=float), tape.breaks, tape.values, times, chances]),
    )


def new_workspace(program: Program, tape: Tape) -> Workspace:
    """Return a fresh workspace for a linked program; raises ValueError for another, which would run at address 0."""
    if program.layout[EVALUATE] == 0:
        raise ValueError("the program is not linked")
    n_events = int(program.layout[N_EVENTS])
    worst = np.zeros((len(tape.locates), 3))
    worst[:, 0], worst[:, 1] = np.inf, -np.inf
    events = np.zeros((n_events + EVENT_CAPACITY, 2))
    # NaN: not looked at yet
    events[:n_events] = np.nan
    return Workspace(
        registers=tape.registers.copy(),
        counters=np.zeros(FLAGS + len(tape.locates), dtype=np.int64),
        worst=worst,
        slopes=np.zeros((8, N_RIGID + len(tape.states))),
        inputs=np.zeros((4, int(program.layout[N_INPUTS]))),
        events=events,
        memory=np.zeros((2, len(tape.cells))),
        own=np.zeros(OWN_HEADER),
    )
