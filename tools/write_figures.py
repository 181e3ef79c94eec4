"""Write the figures of the Tarn that the docs quote, between their marks: <!-- figures: NAME --> and <!-- end -->.

With ``--check`` nothing is written, and the exit code is 1 where a page would change.
"""

import math
import re
import sys
from pathlib import Path

import numpy as np

import dravik as dv
from dravik.aero import read_coefficients
from dravik.aircraft import sample_path
from dravik.linear import Modes

DOCS = Path(__file__).resolve().parents[1] / "docs" / "background"


def tarn() -> str:
    """Return the table of the Tarn's coefficients against what is usual."""
    aero = read_coefficients(sample_path("tarn") / "aircraft.toml")
    alpha = math.radians(4.0)
    by = {n: aero.slopes(n, alpha=alpha) for n in ("alpha", "beta", "p_hat", "q_hat", "r_hat", "alpha_dot_hat")}
    sweep = np.radians(np.arange(-4.0, 26.0, 0.25))
    clean, full = aero.at(alpha=sweep), aero.at(alpha=sweep, flap=math.radians(35.0))
    modes = _modes()
    short, dutch, roll = (modes.named(n) for n in ("short period", "Dutch roll", "roll"))
    assert short is not None and dutch is not None and roll is not None

    def value(by_what: str, name: str) -> str:
        return f"{float(by[by_what][name]):.2g}".replace("-", "−")

    rows = [
        ("", "Tarn, alpha 4 deg", "usual", "why it is so"),
        ("---",) * 4,
        ("CL_alpha", value("alpha", "CL"), "5 to 6", "aspect ratio 9, with tail"),
        ("Cm_alpha", value("alpha", "Cm"), "−0.6 to −2", "large tail, high wing: lift forward of and above the moment point"),
        ("Cl_beta", value("beta", "Cl"), "−0.05 to −0.15", "wing on top of a deep hull, 2 deg dihedral, tall fin: at the upper end, or a little beyond"),
        ("Cn_beta", value("beta", "Cn"), "0.05 to 0.2", "a fin of a fifth of the wing's area against a long hull"),
        ("Cl_p, Cn_r", f"{value('p_hat', 'Cl')}, {value('r_hat', 'Cn')}", "−0.4 to −0.6, −0.1 to −0.3", ""),
        ("Cm_q, Cm_alpha_dot", f"{value('q_hat', 'Cm')}, {value('alpha_dot_hat', 'Cm')}", "−15 to −40, −4 to −12", ""),
        ("CL/CD at best", f"{float(np.max(clean['CL'] / clean['CD'])):.1f}", "12 to 17", "hull, floats and struts drag"),
        ("highest CL, flaps 0 and 35 deg", f"{float(clean['CL'].max()):.2g}, {float(full['CL'].max()):.2g}", "1.4 to 1.6, 1.8 to 2.4", "without slipstream, which adds 0.2 to 0.5"),
        ("short period, Dutch roll, roll", f"{short.frequency:.1f} rad/s at {short.damping:.2f}; {dutch.frequency:.1f} at {dutch.damping:.2f}; {roll.time_constant:.2f} s", "level 1 of MIL-F-8785C", "at 62 m/s, loaded"),
    ]  # fmt: skip
    return "\n".join(f"| {' | '.join(row)} |" if row[0] != "---" else "|---|---|---|---|" for row in rows)


def modes() -> str:
    """Return the sentence about the Tarn's flight and modes."""
    point, found = _point(), _modes()
    short, dutch, roll, phugoid = (found.named(n) for n in ("short period", "Dutch roll", "roll", "phugoid"))
    assert short is not None and dutch is not None and roll is not None and phugoid is not None
    approximate = math.sqrt(2.0) * math.pi * 62.0 / 9.80665
    return (
        f"Loaded, at 62 m/s and 300 m it flies at alpha {math.degrees(point['alpha']):.1f}° with "
        f"{100 * point['power_left']:.0f} % of its power. The short period ({short.frequency:.1f} rad/s,\n"
        f"damping {short.damping:.2f}) and the roll mode ({roll.time_constant:.1f} s) are those of an aircraft of nine "
        f"tonnes with ample tail. The Dutch roll ({dutch.frequency:.1f} rad/s, {dutch.damping:.2f})\nis well damped for its "
        f"size. The phugoid's period is {phugoid.period:.0f} s, by Lanchester's approximation √2 π V/g {approximate:.0f} s."
    )


def _point() -> dv.TrimPoint:
    return dv.trim(dv.sample("tarn"), airspeed="62 m/s", altitude="300 m")


def _modes() -> Modes:
    point = _point()
    return dv.linearise(point.craft, point).modes()


def main(*, check: bool = False) -> int:
    """Write the figures, or look whether they are as written."""
    changed = []
    for page, name, write in (("aero.md", "tarn", tarn), ("linear-models.md", "modes", modes)):
        path = DOCS / page
        text = path.read_text(encoding="utf-8")
        mark = re.compile(rf"(<!-- figures: {name} -->\n).*?(<!-- end -->)", re.DOTALL)
        new = mark.sub(lambda m, w=write: f"{m[1]}{w()}\n{m[2]}", text)  # type: ignore[misc]
        if new != text:
            changed.append(page)
            if not check:
                path.write_text(new, encoding="utf-8")
    print("changed:", ", ".join(changed) or "nothing")
    return 1 if changed and check else 0


if __name__ == "__main__":
    sys.exit(main(check="--check" in sys.argv))
