"""Which sensors are on board, and what laws read: the truth, sensors or estimates, for all signals or one by one."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal, cast

from dravik.aircraft.description.schema import AircraftDefinition
from dravik.errors import DravikError, nearest
from dravik.sensors import chosen_sensors

__all__ = ["SOURCES", "Sensing", "Source", "reads_of", "sensing_of"]

Source = Literal["truth", "sensors", "estimates"]
SOURCES: tuple[Source, ...] = ("truth", "sensors", "estimates")
ALL = "all"


@dataclass(frozen=True)
class Sensing:
    """The set of sensors on board (none without a name), and where what laws read comes from.

    ``reads`` gives the source by signal, ``"all"`` that of the others. ``fed`` are sensors that are replaced or added
    to from outside. Laws named in ``observing`` read the truth whatever is said.
    """

    sensors: str = ""
    reads: Mapping[str, Source] = field(default_factory=dict)
    estimator: str = ""
    fed: tuple[str, ...] = ()
    observing: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        """Whether any sensor is on board."""
        return bool(self.sensors)

    def source(self, signal: str) -> Source:
        """Return where what laws read of a signal comes from."""
        return self.reads.get(signal, self.reads.get(ALL, "truth"))

    @property
    def is_estimating(self) -> bool:
        """Whether laws read an estimate of anything."""
        return "estimates" in self.reads.values()


def reads_of(given: object) -> dict[str, Source]:
    """Return the source by signal of ``"sensors"``, of ``"q=sensors,theta=truth"``, or of a mapping.

    Raises DravikError for other words.

    >>> reads_of("estimates, q=sensors")
    {'all': 'estimates', 'q': 'sensors'}
    """
    if isinstance(given, str):
        parts = [p.strip() for p in given.split(",") if p.strip()]
        pairs = [
            (ALL, p) if "=" not in p else (p.partition("=")[0].strip(), p.partition("=")[2].strip()) for p in parts
        ]
    elif isinstance(given, Mapping):
        pairs = [(str(k), str(v)) for k, v in given.items()]
    else:
        raise DravikError(f"what laws read cannot be {given!r}", expected="'sensors', or 'q=sensors,theta=truth'")
    for _, source in pairs:
        if source not in SOURCES:
            raise DravikError(
                f"laws cannot read {source!r}", expected="truth, sensors or estimates; or signal=source, ...",
                hint=nearest(source, SOURCES),
            )  # fmt: skip
    names = [n for n, _ in pairs]
    for name in names:
        if names.count(name) > 1:
            raise DravikError(f"what laws read of {name} is said twice")
    return {name: cast(Source, source) for name, source in pairs}


def sensing_of(
    definition: AircraftDefinition, name: str, reads: object, estimator: str,
    others: tuple[tuple[str, ...], tuple[str, ...]] = ((), ()),
) -> Sensing:  # fmt: skip
    """Return what is on board and what laws read; ``others`` are the sensors fed and the laws that read the truth.

    Without a ``name`` it is the default set. Raises DravikError for sets that are not there, and for laws that are to
    read sensors of which none is on board.
    """
    wanted = reads_of(reads)
    told = [source for source in wanted.values() if source != "truth"]
    if name == "none":
        if told:
            raise DravikError(f"laws are to read {told[0]}, and no sensors are on board", hint="a set of sensors")
        return Sensing()
    if not definition.sensors:
        raise DravikError(f"{definition.name} has no sensors", expected="[sensors.NAME] in its file")
    sets = list(definition.sensor_sets)
    if not name and not definition.default_sensors and len(sets) > 1:
        raise DravikError(
            f"{definition.name} has several sets of sensors", expected="one of " + ", ".join(sets),
            hint="default_sensors in its file",
        )  # fmt: skip
    chosen = name or definition.default_sensors or (sets[0] if sets else ALL)
    estimators = list(definition.estimators)
    if not estimator and "estimates" in told:
        if len(estimators) != 1:
            raise DravikError(
                f"{definition.name} has {'several estimators' if estimators else 'no estimator'}",
                expected="one of " + ", ".join(estimators) if estimators else "[estimators.NAME] in its file",
            )  # fmt: skip
        estimator = estimators[0]
    if estimator and estimator not in estimators:
        raise DravikError(
            f"{definition.name} has no estimator {estimator!r}", expected="one of " + ", ".join(estimators),
            hint=nearest(estimator, estimators),
        )  # fmt: skip
    chosen_sensors(definition.sensors, definition.sensor_sets, chosen)
    return Sensing(chosen, wanted, estimator, *others)
