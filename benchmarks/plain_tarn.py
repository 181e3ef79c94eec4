"""The Tarn as a plain NumPy and SciPy script, as one writes it for one project: what Dravik is measured against.

The same equations, tables and conventions, written out by hand for this one aircraft; the tables are read from
the sample's files. ``run.py`` checks that it gives the same derivatives.
"""

import tomllib
from pathlib import Path

import numpy as np
from scipy.interpolate import PchipInterpolator, RegularGridInterpolator
from scipy.optimize import fsolve

DEG = np.pi / 180


def read(path, axes, smooth=0):
    """All columns behind the axes of one file, as a function; the first ``smooth`` axes by monotone cubics."""
    rows = [r.split(",") for r in Path(path).read_text().splitlines() if not r.startswith("#")]
    units = {"[deg]": DEG, "[kN]": 1000.0}
    scale = [next((f for u, f in units.items() if u in name), 1.0) for name in rows[0]]
    data = np.array([[float(c) for c in r] for r in rows[1:]]) * scale
    grid = [np.unique(data[:, k]) for k in range(axes)]
    values = data[:, axes:].reshape([*(len(g) for g in grid), -1])
    if not smooth:
        f = RegularGridInterpolator(grid, values)
        return lambda *x: f([np.clip(v, g[0], g[-1]) for v, g in zip(x, grid)])[0]
    # slopes along the first axis, along the second, and along both, side by side with the values
    parts = [values]
    for k in range(smooth):
        parts += [PchipInterpolator(grid[k], part, axis=k)(grid[k], 1) for part in parts]

    def hermite(x, g):
        i = min(max(np.searchsorted(g, x, side="right") - 1, 0), len(g) - 2)
        h = g[i + 1] - g[i]
        t = min(max((x - g[i]) / h, 0.0), 1.0)
        return i, (1 + 2 * t) * (1 - t) ** 2, t * (1 - t) ** 2 * h, t * t * (3 - 2 * t), t * t * (t - 1) * h

    def value(*x):
        now = parts
        for k in range(smooth):
            i, v0, s0, v1, s1 = hermite(x[k], grid[k])
            now = [
                v0 * now[j][i] + s0 * now[j + 1][i] + v1 * now[j][i + 1] + s1 * now[j + 1][i + 1]
                for j in range(0, len(now), 2)
            ]
        found = now[0]
        for k in range(smooth, axes):
            i = min(max(np.searchsorted(grid[k], x[k], side="right") - 1, 0), len(grid[k]) - 2)
            t = min(max((x[k] - grid[k][i]) / (grid[k][i + 1] - grid[k][i]), 0.0), 1.0)
            found = (1 - t) * found[i] + t * found[i + 1]
        return found

    return value


class PlainTarn:
    """States: north east altitude u v w q0 q1 q2 q3 p q r, elevator flap rudder rudder_rate aileron left right."""

    def __init__(self, folder, load):
        d = tomllib.loads((Path(folder) / "aircraft.toml").read_text())
        aero = tomllib.loads((Path(folder) / "aero" / "aero.toml").read_text())
        number = lambda text: float(text.split()[0])  # noqa: E731
        self.mass = load.mass
        i = {k: getattr(load, k) for k in ("Ixx", "Iyy", "Izz", "Ixz")}
        self.inertia = np.array([[i["Ixx"], 0, -i["Ixz"]], [0, i["Iyy"], 0], [-i["Ixz"], 0, i["Izz"]]])
        self.inverse = np.linalg.inv(self.inertia)
        to_body = np.array([-1.0, 1.0, -1.0])
        self.cg = np.array(load.cg) * to_body
        self.ref = np.array([number(x) for x in aero["reference"]["moment_point"]]) * to_body
        self.engines = [np.array([number(x) for x in d["engines"][e]["position"]]) * to_body for e in ("left", "right")]
        self.S, self.c, self.b = 54.0, 2.5, 22.0
        aero = Path(folder) / "aero"
        two = {n: read(aero / f"{n}.csv", 2, 2) for n in ("static", "flap", "elevator", "aileron", "rudder")}
        self.t = {**two, "rates": read(aero / "rates.csv", 1), "roll_rate": read(aero / "roll_rate.csv", 2)}
        self.t["slipstream"] = read(aero / "slipstream_main.csv", 3, 1)
        self.t["thrust"] = read(Path(folder) / "propulsion" / "thrust.csv", 3)

    def table(self, name, *x):
        return self.t[name](*x)

    def air(self, altitude):
        h = 6356766.0 * altitude / (6356766.0 + altitude)
        temperature = 288.15 - 0.0065 * h
        r = 8314.32 / 28.9644
        return 101325.0 * (288.15 / temperature) ** (9.80665 / (r * -0.0065)) / (r * temperature)

    def derivatives(self, t, x, u):
        """Inputs: throttle pitch_stick roll_stick pedal flap_lever elevator_increment."""
        vel, q, w = x[3:6], x[6:10], x[10:13]
        de, df, dr, dr_rate, da, pl, pr = x[13:20]
        q = q / np.linalg.norm(q)
        q0, q1, q2, q3 = q
        R = np.array([
            [q0*q0+q1*q1-q2*q2-q3*q3, 2*(q1*q2+q0*q3), 2*(q1*q3-q0*q2)],
            [2*(q1*q2-q0*q3), q0*q0-q1*q1+q2*q2-q3*q3, 2*(q2*q3+q0*q1)],
            [2*(q1*q3+q0*q2), 2*(q2*q3-q0*q1), q0*q0-q1*q1-q2*q2+q3*q3],
        ])  # fmt: skip
        V = np.linalg.norm(vel)
        alpha, beta = np.arctan2(vel[2], vel[0]), np.arcsin(vel[1] / V)
        qbar = 0.5 * self.air(x[2]) * V * V
        ph, qh, rh = w[0] * self.b / (2 * V), w[1] * self.c / (2 * V), w[2] * self.b / (2 * V)
        thrust = [float(self.table("thrust", V, x[2], p)[0]) for p in (pl, pr)]
        k = np.cos(beta) ** 2
        # the tables are of the flow at their moment point, where the rates turn it
        behind, above = self.cg[0] - self.ref[0], self.cg[2] - self.ref[2]
        at = alpha + 2 / self.c * behind * qh
        CL, CD, CY, Cl, Cm, Cn = self.table("static", at, beta + 2 / self.b * (above * ph - behind * rh))
        flap, elevator = self.table("flap", at, df), self.table("elevator", at, de)
        aileron, rudder = self.table("aileron", at, da), self.table("rudder", at, dr)
        CLq, Cmq, CYr, Clr, Cnr, CYp, CLad, Cmad = self.table("rates", at)
        roll, yaw = self.table("roll_rate", at, np.clip(ph, -0.3, 0.3))
        blown = [self.table("slipstream", at, df, np.clip(T / max(qbar * self.S, 1), 0.0, 0.8)) for T in thrust]
        both, apart = blown[0] + blown[1], blown[1] - blown[0]
        CL += k * (flap[0] + elevator[0] + CLq * qh + both[0])
        CD += k * (flap[1] + elevator[1] + aileron[0] + rudder[0] + both[1])
        Cm += k * (flap[2] + elevator[2] + Cmq * qh + both[2])
        CY += k * (aileron[1] + rudder[1] + CYr * rh + CYp * ph)
        Cl += k * (aileron[2] + rudder[2] + Clr * rh + roll + apart[3])
        Cn += k * (aileron[3] + rudder[3] + Cnr * rh + yaw + apart[4])
        ca, sa = np.cos(alpha), np.sin(alpha)
        qS = qbar * self.S

        def loads(ad):
            lag = k * ad * self.c / (2 * V)
            cl, cm = CL + CLad * lag, Cm + Cmad * lag
            F = qS * np.array([-CD * ca + cl * sa, CY, -CD * sa - cl * ca])
            M = qS * np.array([self.b * Cl, self.c * cm, self.b * Cn])
            M = M + np.cross(self.ref - self.cg, F)
            for T, where in zip(thrust, self.engines):
                F = F + np.array([T, 0, 0])
                M = M + np.cross(where - self.cg, [T, 0, 0])
            acc = F / self.mass + R @ [0, 0, 9.80665] - np.cross(w, vel)
            return M, acc, (vel[0] * acc[2] - vel[2] * acc[0]) / (vel[0] ** 2 + vel[2] ** 2)

        # linear in alpha_dot: two evaluations give the one that fits itself
        r0, r1 = loads(0.0)[2], loads(1.0)[2]
        M, acc, _ = loads(r0 / (1 - (r1 - r0)))
        dw = self.inverse @ (M - np.cross(w, self.inertia @ w))
        ground = R.T @ vel
        p, qq, r = w
        dq = 0.5 * np.array([-q1*p-q2*qq-q3*r, q0*p-q3*qq+q2*r, q3*p+q0*qq-q1*r, -q2*p+q1*qq+q0*r])  # fmt: skip
        throttle, pitch, roll, pedal, flap, extra = u
        first = lambda command, s, lag, rate, low, high: np.clip((np.clip(command, low, high) - s) / lag, -rate, rate)  # noqa: E731
        e = first(-18 * DEG * pitch + extra, de, 0.05, 60 * DEG, -25 * DEG, 15 * DEG)
        f = first(flap, df, 0.02, 4 * DEG, 0.0, 35 * DEG)
        a = first(20 * DEG * roll, da, 0.05, 60 * DEG, -20 * DEG, 20 * DEG)
        command = np.clip(-22 * DEG * pedal, -25 * DEG, 25 * DEG)
        rr = 400.0 * (command - dr) - 32.0 * dr_rate
        engines = [first(throttle, s, 0.8, 0.5, 0.0, 1.0) for s in (pl, pr)]
        rate = np.clip(dr_rate, -50 * DEG, 50 * DEG)
        return np.concatenate([[ground[0], ground[1], -ground[2]], acc, dq, dw, [e, f, rate, rr, a, *engines]])

    def fly(self, x, u, dt, steps):
        for k in range(steps):
            k1 = self.derivatives(k * dt, x, u)
            k2 = self.derivatives(k * dt, x + dt / 2 * k1, u)
            k3 = self.derivatives(k * dt, x + dt / 2 * k2, u)
            k4 = self.derivatives(k * dt, x + dt * k3, u)
            x = x + dt / 6 * (k1 + 2 * k2 + 2 * k3 + k4)
            x[6:10] /= np.linalg.norm(x[6:10])
        return x

    def trim(self, V, altitude):
        """The same trim as Dravik's: all six accelerations and the flight path, level and straight."""

        def state(z):
            alpha, theta, phi, throttle, pitch, roll, pedal = z
            x = np.zeros(20)
            x[2], x[3], x[5] = altitude, V * np.cos(alpha), V * np.sin(alpha)
            cf, sf, ct, st = np.cos(phi / 2), np.sin(phi / 2), np.cos(theta / 2), np.sin(theta / 2)
            x[6:10] = cf * ct, sf * ct, cf * st, -sf * st
            x[13], x[15], x[17] = -18 * DEG * pitch, -22 * DEG * pedal, 20 * DEG * roll
            x[18] = x[19] = throttle
            return x, np.array([throttle, pitch, roll, pedal, 0, 0])

        def residual(z):
            d = self.derivatives(0.0, *state(z))
            return d[[2, 3, 4, 5, 10, 11, 12]]

        return state(fsolve(residual, [0.05, 0.05, 0, 0.4, 0, 0, 0], xtol=1e-12))

    def linearise(self, x, u):
        columns = []
        z = np.concatenate([x, u])
        for i in range(len(z)):
            h = 6e-6 * max(1.0, abs(z[i]))
            up, down = z.copy(), z.copy()
            up[i] += h
            down[i] -= h
            columns.append(
                (self.derivatives(0, up[:20], up[20:]) - self.derivatives(0, down[:20], down[20:])) / (2 * h)
            )
        return np.array(columns).T
