"""Make docs/screenshots anew: each main command's output on the sample, as a picture.

Terminal output is drawn in a terminal's font; the page needs a Chromium on the path and keeps its old picture
without one.
"""

import asyncio
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from matplotlib.figure import Figure

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))
SHOTS = ROOT / "docs" / "screenshots"
AT = ["--airspeed", "62 m/s", "--altitude", "300 m"]
COLUMNS, ROWS = 120, 40
FAULTS = (
    ("+ Cm_elevator", "- Cm_elevator"),
    ('"4500 m"]', '"6000 m"]'),
    ('"-25 deg", "15 deg"', '"-25 rad", "15 rad"'),
)


def run(folder: Path, *arguments: str) -> str:
    """Run a command in a folder and return what a person sees."""
    done = subprocess.run([sys.executable, "-m", "dravik", *arguments], cwd=folder, capture_output=True, text=True)
    if done.returncode > 1:
        raise SystemExit(f"dravik {' '.join(arguments)}: {done.stderr}")
    quoted = [f"'{a}'" if " " in a or "(" in a else a for a in arguments]
    return f"$ dravik {' '.join(quoted)}\n{done.stderr}{done.stdout}"


def terminal(name: str, text: str) -> None:
    """Draw text as a terminal of just its height shows it, 1280 wide and at most 800 high."""
    rows = [line.rstrip() for line in text.splitlines()]
    lines = [line[i : i + COLUMNS] for line in rows for i in range(0, max(len(line), 1), COLUMNS)][:ROWS]
    high = max(len(lines), 12) + 1
    figure = Figure(figsize=(12.8, 0.2 * high), dpi=100, facecolor="#12191d")
    for i, line in enumerate(lines):
        colour = "#8fd3ff" if line.startswith("$") else "#e6edf0"
        figure.text(
            0.012, 1.0 - (i + 0.4) / high, line, family="DejaVu Sans Mono", fontsize=12.4, color=colour, va="top", parse_math=False
        )  # fmt: skip
    figure.savefig(SHOTS / f"{name}.png")


def page(source: Path, name: str, height: int = 1500) -> None:
    """Take a picture of an HTML page's beginning."""
    browser = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
    if browser is None:
        print(f"no Chromium on the path: {name}.png is left as it is")
        return
    with tempfile.TemporaryDirectory() as profile:
        options = (
            "--headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --hide-scrollbars"
        )
        shot = [
            f"--window-size=1280,{height}",
            f"--user-data-dir={profile}",
            f"--screenshot={SHOTS / name}.png",
            source.as_uri(),
        ]
        subprocess.run([browser, *options.split(), *shot], capture_output=True, check=True)


async def live_page(name: str, seconds: float, *, light: bool = False) -> None:
    """Take a picture of the live page: the sample scenario after some seconds of the clock, ten times real time."""
    import dravik as dv
    from tools.browser import Browser

    scenario = dv.load_scenario("fire_run" if not light else "fire_edge")
    with dv.live(scenario.session(), title=scenario.definition.name, route=scenario.course) as served:
        async with Browser() as browser:
            await browser.open(served.address)
            await browser.until("window.dravik && window.dravik.frames > 3")
            await browser.value("document.getElementById('speed').value = '10'")
            await browser.value("document.getElementById('speed').dispatchEvent(new Event('change'))")
            if light:
                for selector in ("#theme", '[data-view="side"]', "#tab-Autopilot"):
                    await browser.click(selector)
            await browser.key("Space")
            await browser.until(f"window.dravik.time > {seconds}", seconds=120.0)
            await browser.key("Space")
            await browser.value("window.dravik.scene.level = 0")
            await asyncio.sleep(2.0)
            await browser.value("window.dravik.scene.level = 0")
            await asyncio.sleep(0.3)
            await browser.picture(SHOTS / f"{name}.png")


def figure(folder: Path, name: str, *arguments: str) -> None:
    """Run a command that draws a figure and keep the figure."""
    option = "--out" if arguments[0] == "plot" else "--figure"
    run(folder, *arguments, option, f"{name}.png")
    shutil.copyfile(folder / f"{name}.png", SHOTS / f"figure_{name}.png")


def main() -> None:
    """Make every picture."""
    SHOTS.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        terminal("demo", run(folder, "demo") + "\n" + run(folder, "new", "mine"))
        page(folder / "demo" / "index.html", "page")
        clean = run(folder, "check", "tarn")
        for file in (folder / "mine" / f for f in ("aircraft.toml", "mass.toml", "aero/aero.toml")):
            text = file.read_text(encoding="utf-8")
            for old, new in FAULTS:
                text = text.replace(old, new)
            file.write_text(text, encoding="utf-8")
        terminal("check", clean + "\n" + run(folder, "check", "mine"))
        turn = ["--airspeed", "1.3 stall", "--altitude", "300 m", "--turn", "30 deg", "--wind", "8 m/s from 20 deg"]
        terminal("trim", run(folder, "trim", "tarn", *turn, "--prove"))
        figure(folder, "limits", "limits", "tarn", "--altitude", "300 m")
        beside = ["--beside", "yaw_damper.gain_margin_dB=16"]
        figure(folder, "loops", "loop", "tarn", "--plan", "attitude", *beside)
        figure(folder, "handling", "handling", "tarn", *AT, "--category", "C", "--criteria", "all")
        over = ["--sweep", "altitude=0:4000:10 m", "--sweep", "airspeed=45:95:20 m/s"]
        judged = ["--category", "C", "--criteria", "modal,responses,static"]
        figure(folder, "levels", "handling", "tarn", *over, *judged)
        run(folder, "fly", "fire_run", "--out", "run.csv")
        shown = "airspeed,altitude,theta,phi,elevator,rudder,mass,nz"
        figure(folder, "plot", "plot", "run.csv", "--signals", shown)
        figure(folder, "track", "plot", "run.csv", "--view", "track")
        run(folder, "book", "pika", "--out", "pika.html")
        page(folder / "pika.html", "book")
    if shutil.which("chromium") or shutil.which("chromium-browser"):
        asyncio.run(live_page("live", 76.0))
        asyncio.run(live_page("live_light", 150.0, light=True))
    site = ROOT / "build" / "docs" / "html" / "index.html"
    if site.exists():
        page(site, "site", height=800)
    else:
        print("the documentation is not built: site.png is left as it is; make docs")


if __name__ == "__main__":
    main()
