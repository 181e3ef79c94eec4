"""Trim and judge the Tarn over its envelope, in both loadings, in a few lines."""

import dravik as dv

for loading in ("loaded", "dropped"):
    craft = dv.sample("tarn", loading=loading)
    for airspeed in (55.0, 70.0, 90.0):
        point = dv.trim(craft, airspeed=airspeed, altitude=1000.0)
        found = dv.handling_qualities(craft, point, category="B")
        short = dv.linearise(craft, point).modes().named("short period")
        frequency = short.frequency if short else float("nan")
        print(f"{loading:8} {airspeed:5.0f} m/s  level {found.level}  short period {frequency:.2f} rad/s")
