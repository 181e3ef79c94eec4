"""The Tarn as a plain NumPy and SciPy script, as one writes it for one project: what Dravik is measured against.

The same equations, tables and conventions, written out by hand for this one aircraft; the tables are read from
the sample's files. ``run.py`` checks that it gives the same derivatives.
"""

import tomllib
from pathlib import Path

import numpy as np
from scipy.interpolate import RegularGridInterpolator
from scipy.optimize import fsolve

DEG = np.pi / 180


def read(path, scale):
    rows = [r for r in Path(path).read_text().splitlines() if not r.startswith("#")]
    data = np.array([[float(c) for c in r.split(",")] for r in rows[1:]]) * scale
    axes = [np.unique(data[:, k]) for k in range(data.shape[1] - 1)]
    return RegularGridInterpolator(
        axes, data[:, -1].reshape([len(a) for a in axes]), bounds_error=False, fill_value=None
    ), axes


class PlainTarn:
    """States: north east altitude u v w q0 q1 q2 q3 p q r, elevator flap rudder rudder_rate aileron left right."""

    def __init__(self, folder):
        d = tomllib.loads((Path(folder) / "aircraft.toml").read_text())
        load = d["loadings"]["loaded"]
        number = lambda text: float(text.split()[0])  # noqa: E731
        self.mass = number(load["mass"])
        i = {k: number(load[k]) for k in ("Ixx", "Iyy", "Izz", "Ixz")}
        self.inertia = np.array([[i["Ixx"], 0, -i["Ixz"]], [0, i["Iyy"], 0], [-i["Ixz"], 0, i["Izz"]]])
        self.inverse = np.linalg.inv(self.inertia)
        to_body = np.array([-1.0, 1.0, -1.0])
        self.cg = np.array([number(x) for x in load["cg"]]) * to_body
        self.ref = np.array([number(x) for x in d["reference"]["moment_point"]]) * to_body
        self.engines = [np.array([number(x) for x in d["engines"][e]["position"]]) * to_body for e in ("left", "right")]
        self.S, self.c, self.b = 54.0, 2.5, 22.0
        aero, a2, a1 = Path(folder) / "aero", [DEG, DEG, 1], [DEG, 1]
        self.t = {
            "CL": read(aero / "lift.csv", a2), "CD": read(aero / "drag.csv", a2), "Cm": read(aero / "pitching_moment.csv", a2),
            "blown": read(aero / "slipstream_lift.csv", [DEG, DEG, 1, 1]), "Clb": read(aero / "dihedral_effect.csv", a1),
            "Cnb": read(aero / "directional_stability.csv", a1), "Clp": read(aero / "roll_damping.csv", a1),
            "Clr": read(aero / "roll_due_to_yaw.csv", a1), "Cnp": read(aero / "yaw_due_to_roll.csv", a1),
            "thrust": read(Path(folder) / "propulsion" / "thrust.csv", [1, 1, 1, 1000]),
        }  # fmt: skip

    def table(self, name, *x):
        f, axes = self.t[name]
        return float(f([np.clip(v, a[0], a[-1]) for v, a in zip(x, axes)])[0])

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
        thrust = [self.table("thrust", V, x[2], p) for p in (pl, pr)]
        Tc = sum(thrust) / (max(qbar, 1) * self.S)
        CL = self.table("CL", alpha, df) + self.table("blown", alpha, df, Tc) + 4.9 * qh + 0.42 * de
        CD = self.table("CD", alpha, df) + 0.12 * de**2 + 0.02 * abs(da) + 0.05 * dr**2 + 0.25 * beta**2
        Cm = self.table("Cm", alpha, df) - 21 * qh - 1.35 * de
        CY = -0.86 * beta + 0.30 * rh - 0.05 * ph + 0.22 * dr
        Cl = (
            self.table("Clb", alpha) * beta
            + self.table("Clp", alpha) * ph
            + self.table("Clr", alpha) * rh
            + 0.17 * da
            + 0.012 * dr
        )
        Cn = self.table("Cnb", alpha) * beta + self.table("Cnp", alpha) * ph - 0.155 * rh - 0.009 * da - 0.098 * dr
        ca, sa = np.cos(alpha), np.sin(alpha)
        qS = qbar * self.S

        def loads(ad):
            k = ad * self.c / (2 * V)
            cl, cm = CL + 1.6 * k, Cm - 6.2 * k
            F = qS * np.array([-CD * ca + cl * sa, CY, -CD * sa - cl * ca])
            M = qS * np.array([self.b * (Cl * ca - Cn * sa), self.c * cm, self.b * (Cl * sa + Cn * ca)])
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
