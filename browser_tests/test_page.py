"""The live page in a headless Chromium: what a pilot and an engineer do with it, and that nothing goes wrong on it."""

import asyncio
import json
import tempfile
import unittest
from pathlib import Path
from urllib.parse import urlsplit

import numpy as np

import dravik as dv
from dravik.live_page import Door, LivePage
from dravik.recording import read_recording
from tools.browser import Browser

PAD = """navigator.getGamepads = () => [{ id: "test pad", index: 0, axes: %s, buttons: [{ value: 0 }] }]"""


def session() -> dv.Session:
    craft = dv.sample("tarn", laws=["pitch_hold"])
    return dv.Session(craft, start=dv.trim(craft, airspeed="62 m/s", altitude="300 m"))


class PageTest(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    async def asyncSetUp(self) -> None:
        asyncio.get_running_loop().slow_callback_duration = 10.0  # trims and flights of a test may take their time

    def serve(self, what: object = None, **options: object) -> LivePage:
        return self.enterContext(dv.live(what or session(), folder=self.folder, **options))

    async def browse(self, page: LivePage, width: int = 1280, height: int = 800) -> Browser:
        browser = await self.enterAsyncContext(Browser(width, height, touch=width < 700))
        await browser.open(page.address)
        await browser.until("window.dravik && window.dravik.frames > 3")
        return browser

    async def clean(self, browser: Browser, page: LivePage) -> None:
        """Nothing on the console, and nothing fetched from anywhere else."""
        self.assertEqual(browser.console, [])
        where = urlsplit(page.address).netloc
        others = [u for u in browser.requests if urlsplit(u).netloc != where and not u.startswith(("data:", "blob:"))]
        self.assertEqual(others, [])

    async def text(self, browser: Browser, selector: str) -> str:
        return str(await browser.value(f"document.querySelector({selector!r}).textContent"))

    async def test_a_flight_by_keys_reset_gain_and_recording(self) -> None:
        page = self.serve()
        begun = page.flight.do(lambda: page.flight.session.state)
        b = await self.browse(page)
        self.assertEqual(await self.text(b, "#lock"), "controls locked")
        first = await b.picture(self.folder / "a.png")
        await b.key("Space")
        await b.until("document.getElementById('state').textContent === 'running'")
        await b.key("ArrowRight", held=0.4)  # locked: nothing happens
        self.assertLess(abs(await b.value("window.dravik.values('phi')")), 0.01)
        await b.key("KeyH")
        await b.until("document.getElementById('lock').textContent === 'you fly'")
        await b.click("#record")
        await b.until("document.getElementById('record').textContent === 'End the recording'")
        await b.down("ArrowRight")
        await b.until("window.dravik.values('phi') > 0.08")
        await b.up("ArrowRight")
        await b.down("ArrowDown")  # back: nose up
        await b.until("window.dravik.values('theta') > 0.1")
        await b.up("ArrowDown")
        await b.key("KeyW", held=0.3)
        await b.until("window.dravik.values('throttle') > 0.3")
        await b.click("#tab-Gains")
        await b.value(
            "(() => { const f = document.querySelector('#panel input'); f.value = Number(f.value) * 0.8; f.dispatchEvent(new Event('change')); })()"
        )
        await b.click("#tab-Events")
        await b.until("document.getElementById('events').textContent.includes('parameter pitch_')")
        await b.click("#record")
        await b.until("document.getElementById('record').textContent === 'Record'")
        moved = await b.picture(self.folder / "b.png")
        self.assertNotEqual(first, moved)
        await b.key("KeyR")
        await b.until("window.dravik.values('phi') === 0 || window.dravik.step < 30")
        await b.key("Space")
        await b.until("document.getElementById('state').textContent === 'paused'")
        await b.key("KeyR")
        await b.until("window.dravik.step === 0")
        np.testing.assert_array_equal(page.flight.do(lambda: page.flight.session.state), begun)
        self.assertEqual(await self.text(b, "#lock"), "controls locked")
        await self.clean(b, page)
        self.again(next(self.folder.glob("flight-*.csv")))

    def again(self, file: Path) -> None:
        """Fly a recording again from its inputs and gains, and demand the same numbers as far as the file has them."""
        run = read_recording(file)
        craft = dv.sample("tarn", laws=["pitch_hold"])
        changes = {round(e.time / 0.01): e.text for e in run.events if e.text.startswith("parameter")}
        self.assertEqual(len(changes), 1)
        again = dv.Session(craft, start=dv.resume(craft, run, at="begin"), record=None)
        first = round(run.time[0] / 0.01)
        for k in range(len(run.time) - 1):
            if k + first in changes:
                name, value = changes[k + first].split()[1].strip(":"), changes[k + first].partition(" to ")[2]
                again.set(**{name: value})
            again.step(**{n: float(run[n][k]) for n in ("throttle", "pitch_stick", "roll_stick", "pedal")})
        other = again.recording()
        self.assertGreater(len(run.time), 100)
        for name in ("phi", "theta", "altitude", "airspeed", "elevator", "aileron", "power_left"):
            scale = np.abs(run[name]).max()
            np.testing.assert_allclose(other[name], run[name], rtol=0, atol=1e-7 * scale, err_msg=name)

    async def test_mouse_world_states_and_views(self) -> None:
        page = self.serve(dv.load_scenario("fire_run").session(), title="Fire run")
        b = await self.browse(page)
        await b.key("KeyH")
        await b.until("document.getElementById('lock').textContent === 'you fly'")
        x, y = await b.value(
            "(() => { const r = document.getElementById('stick').getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; })()"
        )
        await b.call("Input.dispatchMouseEvent", type="mousePressed", x=x, y=y, button="left", buttons=1)
        await b.call("Input.dispatchMouseEvent", type="mouseMoved", x=x + 40, y=y + 30, button="left", buttons=1)
        await b.until("window.dravik.values('roll_stick') > 0.05 && window.dravik.values('pitch_stick') > 0.05")
        await b.call("Input.dispatchMouseEvent", type="mouseReleased", x=x + 40, y=y + 30, button="left")
        await b.until("Math.abs(window.dravik.values('roll_stick')) < 1e-6")
        await b.click("#tab-World")
        for field, value in (("set-wind_north", "3"), ("tank-water", "700")):
            await b.value(
                f"(() => {{ const f = document.getElementById('{field}'); f.value = '{value}'; f.dispatchEvent(new Event('change')); }})()"
            )
        await b.click("#fault-fail_left")
        await b.click("#keep")
        await b.key("Space")
        await b.until("window.dravik.step > 20")
        await b.until("window.dravik.values('fail_left') === 1 && window.dravik.values('tank_water') < 701")
        await b.until("document.querySelector('#kept button')")
        await b.click("#kept button")
        await b.until("window.dravik.step < 20 || document.getElementById('state').textContent === 'running'")
        await b.click("#tab-Autopilot")
        await b.click("#mode-vertical-off")
        await b.until("document.getElementById('mode-vertical-off').classList.contains('on')")
        for view in ("seat", "side", "ground", "behind"):
            await b.click(f'[data-view="{view}"]')
            before = await b.value("window.dravik.frames")
            await b.until(f"window.dravik.frames > {before + 5}")
        await b.click("#theme")
        self.assertTrue(await b.value("document.documentElement.classList.contains('light')"))
        await self.clean(b, page)

    async def test_gamepads(self) -> None:
        page = self.serve()
        b = await self.browse(page)
        await b.click("#tab-Devices")
        await b.until("document.getElementById('panel').textContent.includes('No gamepad is there')")
        await b.value(PAD % "[]")
        await b.until(
            "document.getElementById('panel').textContent.includes('test pad has no axes: it cannot move a control.')"
        )
        await b.value(PAD % "[0.05, 0, 0, 0]")  # within the dead zone
        await b.until("document.getElementById('panel').textContent.includes('axis 4')")
        await b.key("KeyH")
        await b.until("document.getElementById('lock').textContent === 'you fly'")
        await asyncio.sleep(0.3)
        self.assertLess(abs(await b.value("window.dravik.values('roll_stick')")), 1e-12)
        await b.value(PAD % "[1, -1, 0, 0]")  # right, and pushed forward
        await b.until("Math.abs(window.dravik.values('roll_stick') - 0.4) < 1e-6")  # the usual share of full deflection
        trimmed = await b.value("window.dravik.sticks.base.get('pitch_stick')")
        await b.until(f"Math.abs(window.dravik.values('pitch_stick') - {trimmed} + 0.4) < 1e-6")
        axes = await b.value("window.dravik.sticks.axes")
        self.assertTrue(await b.value(f"window.dravik.sticks.fits({json.dumps(axes)})"))
        self.assertFalse(await b.value("window.dravik.sticks.fits([{source: 'keys right'}])"))
        # what was chosen is kept in the browser
        await b.value(
            "(() => { const s = document.querySelector('.axis-editor input[title=share]'); s.value = 0.9; s.dispatchEvent(new Event('change')); })()"
        )
        await b.open(page.address)
        await b.until("window.dravik && window.dravik.frames > 3")
        self.assertEqual(await b.value("window.dravik.sticks.axes[0].share"), 0.9)
        await self.clean(b, page)

    async def test_playback_with_a_time_bar(self) -> None:
        craft = dv.sample("tarn")
        point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        runs = [
            dv.fly(craft, start=point, duration=4, controls={"roll_stick": dv.step(s, at=0.5)}) for s in (0.2, -0.2)
        ]
        page = self.serve(runs, shape=craft)
        b = await self.browse(page)
        self.assertTrue(await b.value("document.getElementById('record').hidden"))
        await b.value(
            "(() => { const r = document.getElementById('bar'); r.value = 500; r.dispatchEvent(new Event('input')); })()"
        )
        await b.until("Math.abs(window.dravik.time - 2) < 0.02")
        self.assertGreater(await b.value("window.dravik.values('phi')"), 0.05)
        self.assertLess(await b.value("window.dravik.values('phi@2')"), -0.05)
        await b.key("Space")
        await b.until("window.dravik.time > 3.9")
        await self.clean(b, page)

    async def test_a_small_screen_and_a_missing_token(self) -> None:
        page = self.serve()
        b = await self.browse(page, 390, 844)
        self.assertLessEqual(await b.value("document.documentElement.scrollWidth"), 390)
        await self.clean(b, page)
        guarded = self.serve(door=Door.at(token="abcdefgh1234"))
        other = await self.enterAsyncContext(Browser())
        await other.open(guarded.address.partition("?")[0])
        await other.until("document.getElementById('message').textContent.includes('lacks its token')")
        await other.open(guarded.address)
        await other.until("window.dravik && window.dravik.frames > 3")


if __name__ == "__main__":
    unittest.main()
