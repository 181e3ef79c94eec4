"""A scenario ready to fly: its definition, and the aircraft with laws, world and script."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from dravik.aircraft import Aircraft
from dravik.definition.settings import sort_settings
from dravik.errors import DravikError
from dravik.flight.devices import Device
from dravik.flight.flying import fly
from dravik.flight.histories import History
from dravik.flight.options import steps_between
from dravik.flight.session import Session
from dravik.flight.snapshots import Start
from dravik.flight.starts import RailStart, begin
from dravik.guidance import Path as CoursePath
from dravik.guidance.aiming import Band, check_reach, reachable_band
from dravik.guidance.route_device import LOGGED, OWN_VALUES, RouteGuidance
from dravik.guidance.route_log import drawn
from dravik.recording.recording import Recording
from dravik.scenarios.definition import ScenarioDefinition
from dravik.sensors import SEED
from dravik.surroundings.turbulence import Turbulence
from dravik.trimming import TrimPoint

__all__ = [
    "Scenario",
]


@dataclass(frozen=True)
class Scenario:
    """A scenario ready to fly: its definition, and the aircraft with laws, world and script."""

    definition: ScenarioDefinition
    craft: Aircraft
    controls: Mapping[str, History]
    path: Path
    course: CoursePath | None = None

    def with_parameters(self, values: Mapping[str, str | float]) -> "Scenario":
        """Return the scenario with other values of parameters; raises DravikError for what does not fit."""
        return replace(self, craft=self.craft.with_parameters(values))

    def with_sensors(
        self, sensors: str = "", *, reads: str | Mapping[str, str] = "", estimator: str = ""
    ) -> "Scenario":  # fmt: skip
        """Return the scenario with another set of sensors, other sources of what laws read, or another estimator.

        What is not given stays. Raises DravikError for what is not there.
        """
        now = self.craft.configuration.sensing
        chosen = sensors or (now.sensors if now else "")
        read = reads or (now.reads if sensors != "none" else {}) or "truth"
        estimates = estimator or (now.estimator if sensors != "none" else "")
        craft = self.craft.with_sensors(chosen, reads=read, estimator=estimates, observing=(self.definition.name,))
        return replace(self, craft=craft)

    def start(self) -> TrimPoint | Start:
        """Return where it starts; raises TrimError or DravikError where that cannot be."""
        # inputs of the first phase apply from the start, so the trim and the settling of engines use them
        phases = self.definition.phases
        first = sort_settings(phases[0].set, self.craft.parameters).inputs if phases else {}
        return begin(self.craft, self.definition.start, first)

    def fly(
        self, *, save: str | Path | None = None, seed: int | None = None, start: TrimPoint | Start | None = None,
        progress: Callable[[float], None] | None = None, devices: Sequence[Device] = (),
    ) -> Recording:  # fmt: skip
        """Return the recording of the scenario flown, as ``dravik.fly`` does; ``seed`` stands for its own.

        ``devices`` are called after the guidance of its route, if it has one.

        From another ``start``, such as the end of a recording, it flies on to the scenario's end.
        """
        d = self.definition
        start = start or self.start()
        flown = start.time if isinstance(start, Start) else 0.0
        if not flown < d.duration:
            raise DravikError(f"the scenario ends at {d.duration:g} s", expected="a start before that")
        return fly(
            self._seeded(seed), start=start, duration=d.duration - flown, save=save, progress=progress,
            **self._options(seed, devices),
        )  # fmt: skip

    def session(
        self, *, save: str | Path | None = None, seed: int | None = None, start: TrimPoint | Start | None = None,
        devices: Sequence[Device] = (),
    ) -> Session:  # fmt: skip
        """Return the scenario as a session, to be flown step by step; it does not end by itself at its duration.

        ``seed``, ``start`` and ``devices`` are as in ``fly``. Without ``save`` nothing is recorded.
        """
        options = self._options(seed, devices)
        if save is None:  # nothing is recorded
            options |= {"record": None, "record_every": 1}
        else:
            options["save"] = save
        return Session(
            self._seeded(seed), start=start or self.start(), **{n: v for n, v in options.items() if v is not None}
        )

    def _seeded(self, seed: int | None) -> Aircraft:
        """Return the aircraft with the seed of its sensors set, unless it was set by itself."""
        craft = self.craft
        if SEED not in craft.parameters or (seed is None and SEED in craft.configuration.values):
            return craft
        return craft.with_parameters({SEED: self.definition.seed if seed is None else seed})

    def _options(self, seed: int | None, devices: Sequence[Device]) -> dict[str, Any]:
        """Return what a flight and a session of the scenario have in common; raises DravikError for an aim too far."""
        d = self.definition
        guides: list[Device] = []
        if self.course is not None and d.route is not None:
            route = d.route
            guides = [RouteGuidance(self.course, rate=route.rate, course_gain=route.course_gain, targets=route.targets)]
        note: dict[str, Any] = {"scenario": d.name, "begins": d.begins.isoformat() if d.begins else None}
        if self.course is not None:
            note["route"] = drawn(self.course)
        band = self.band
        if band is not None and d.aim is not None:
            check_reach(band, d.aim.north, d.aim.east)
            note["band"] = band._asdict()
            note["aim"] = d.aim.model_dump()
        every = 1 if d.record.every is None else steps_between(f"{d.record.every!r} s", d.step)
        # what is told of the flight afterwards is recorded besides
        told = [*(("route_point", *LOGGED) if self.course is not None else ()), *(["aim_distance"] if d.aim else [])]
        record = list(
            dict.fromkeys([*d.record.signals, *(n for n in told if n in self.craft.signals or n in OWN_VALUES)])
        )
        return {
            "controls": self.controls,
            "devices": [*guides, *devices],
            "turbulence": self._turbulence(d.seed if seed is None else seed),
            "dt": d.step,
            "record": record if d.record.signals else None,
            "record_every": every,
            "note": note,
        }

    @cached_property
    def band(self) -> Band | None:
        """Return the band of ranges that the rail's elevation reaches at the altitude aimed at; None without an aim.

        Raises DravikError for an aim from anything but a rail.
        """
        aim, start = self.definition.aim, self.definition.start
        if aim is None:
            return None
        if not isinstance(start, RailStart):
            raise DravikError(
                "the scenario has an aim, but no rail", where=str(self.path), expected='[start] of kind = "rail"'
            )
        return reachable_band(
            self.craft, altitude=aim.altitude, elevation=start.elevation, heading=start.heading, miss=aim.miss,
            inputs=start.inputs,
        )  # fmt: skip

    def _turbulence(self, seed: int) -> Turbulence | None:
        gusts = self.definition.turbulence
        return None if gusts is None else Turbulence(**gusts.model_dump(), seed=seed)
