"""A flight control computer in Python: called twenty times a second, it holds the altitude with the elevator."""

import math
from collections.abc import Mapping

import dravik as dv


class AltitudeHold:
    """Climb rate from the altitude error, pitch attitude from the climb rate, elevator from the attitude."""

    rate = 20.0

    def __init__(self, point: dv.TrimPoint, altitude: float) -> None:
        self.altitude = altitude
        self.theta = point["theta"]

    def update(self, t: float, s: Mapping[str, float]) -> Mapping[str, float]:
        """Return what is added to the elevator's command."""
        climb = max(-3.0, min(3.0, 0.25 * (self.altitude - s["altitude"])))
        theta = self.theta + (climb - s["climb_rate"]) / s["airspeed"] + math.radians(0.9) * climb
        return {"elevator": -1.5 * (theta - s["theta"]) + 0.8 * s["q"]}


craft = dv.sample("tarn")
point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
run = dv.fly(craft, start=point, duration=40, devices=[AltitudeHold(point, 320.0)])
print(run.frame[["time_s", "altitude_m", "climb_rate_m_s", "airspeed_m_s"]].iloc[::500])
