"""Compiled functions: what goes in through a wrapper and comes out, what is kept on disk, numbers as text."""

import os
import pickle
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, ClassVar, NamedTuple
from unittest import mock

import numpy as np
from numpy.typing import NDArray

import dravik as dv
from dravik.compiled import compiled, inlined
from dravik.compiled.without_internals import PlainCall, internals_work
from dravik.host.cores import in_threads
from dravik.host.notices import announcing
from dravik.recording.number_text import as_lines

Floats = NDArray[np.float64]
FACTOR = 3.0
WEIGHTS = np.array([1.0, 2.0])


class _Pair(NamedTuple):
    table: Floats
    counts: NDArray[np.int64]


class Pair(_Pair):
    __slots__ = ()
    kinds: ClassVar = ("f8:2", "i8:1")


class Marked(np.ndarray):  # type: ignore[type-arg]
    """An array of a class of its own."""


@inlined
def part(x: float) -> float:
    return FACTOR * x


@compiled
def summed(pair: Pair, more: Floats, n: int, negative: bool, factor: float) -> tuple[float, int, bool]:
    """Sum, with the place of each number in its weight, so that a wrong stride or shape is seen."""
    total, count = 0.0, pair.table.size
    for i in range(pair.table.shape[0]):
        row = pair.table[i]
        for j in range(pair.table.shape[1]):
            total += part(row[j]) * (10 * i + j + 1)
    for k in range(more.shape[0]):
        total += more[k] * pair.counts[k] * factor
    return -total if negative else total, count + n, not negative


def plain(pair: Pair, more: Floats, n: int, negative: bool, factor: float) -> tuple[float, int, bool]:
    places = 10.0 * np.arange(pair.table.shape[0])[:, None] + np.arange(pair.table.shape[1]) + 1.0
    total = float((3.0 * pair.table * places).sum() + (more * pair.counts * factor).sum())
    return -total if negative else total, pair.table.size + n, not negative


@compiled
def halved(x: float) -> float:
    return 0.5 * x


@compiled
def weighed(k: int) -> float:
    return float(WEIGHTS[k])


class DoorTest(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(4)
        self.pair = Pair(rng.normal(size=(3, 5)), rng.integers(1, 9, 4))
        self.more = rng.normal(size=4)

    def both(self, *args: Any) -> None:
        found, wanted = summed(*args), plain(*args)
        self.assertAlmostEqual(found[0], wanted[0], places=9)
        self.assertEqual(found[1:], wanted[1:])
        self.assertEqual([type(v) for v in found], [float, int, bool])

    def test_what_goes_in_comes_out(self) -> None:
        for negative in (False, True):
            self.both(self.pair, self.more, -7, negative, 2.0)
        # a number by another type, then the usual one again
        self.both(self.pair, self.more, np.int64(3), np.bool_(True), np.float64(0.5))
        self.both(self.pair, self.more, 1, False, 2)
        self.both(self.pair, self.more, 1, 1, 2.0)  # a number for a flag
        self.both(self.pair, self.more, 1, False, 2.0)
        self.both(Pair(np.zeros((0, 5)), self.pair.counts[:0]), self.more[:0], 0, False, 2.0)
        self.assertEqual(halved(3.0), 1.5)
        self.assertEqual(halved(3), 1.5)
        self.assertEqual(len(halved._wrappers), 1)  # type: ignore[attr-defined]

    def test_arrays_of_other_kinds_are_not_misread(self) -> None:
        self.both(self.pair, self.more, 1, False, 2.0)
        wide = np.repeat(self.more, 2)
        self.both(self.pair, wide[::2], 1, False, 2.0)
        self.both(self.pair, np.arange(4), 1, False, 2.0)
        with self.assertRaises(TypeError):
            summed(self.pair, self.more)  # type: ignore[call-arg]
        self.both(self.pair, self.more.view(Marked), 1, False, 2.0)
        for other in (self.more[None, :], "text", None, self.more.byteswap().view(self.more.dtype.newbyteorder())):
            with self.assertRaises(Exception) as caught:
                summed(self.pair, other, 1, False, 2.0)
            self.assertNotIsInstance(caught.exception, SystemError)
        for wrong in (2**63, -(2**70)):
            with self.assertRaises(OverflowError):
                summed(self.pair, self.more, wrong, False, 2.0)
        self.assertEqual(summed(self.pair, self.more, -1, False, 2.0)[1], self.pair.table.size - 1)
        with self.assertRaises(TypeError):
            summed(pair=self.pair, more=self.more, n=1, negative=False, factor=2.0)
        with self.assertRaisesRegex(TypeError, "part is called from compiled functions only"):
            part(1.0)
        self.both(self.pair, self.more, 1, False, 2.0)


class KeptTest(unittest.TestCase):
    def test_a_meaning_is_a_functions_and_that_of_all_it_calls(self) -> None:
        global FACTOR
        meaning = type(summed).__dict__["_meaning"].func  # type: ignore[attr-defined]
        before = meaning(summed)
        self.assertEqual(before, meaning(summed))
        FACTOR = 4.0
        try:
            self.assertNotEqual(before, meaning(summed))
        finally:
            FACTOR = 3.0
        self.assertNotEqual(meaning(halved), before)
        key = type(summed)._key  # type: ignore[attr-defined]
        swapped = type("Pair", (Pair,), {"kinds": ("i8:1", "f8:2")})
        self.assertNotEqual(key(summed, (Pair, "f")), key(summed, (swapped, "f")))
        before = meaning(weighed)
        WEIGHTS[1] = 3.0
        self.assertNotEqual(before, meaning(weighed))
        WEIGHTS[1] = 2.0
        self.assertEqual(before, meaning(weighed))

    def test_who_waits_for_it_is_told_also_from_a_thread_and_once(self) -> None:
        told: list[str] = []

        @contextmanager
        def teller(what: str) -> Iterator[None]:
            told.append(what)
            yield
            told.append("done")

        offset = float(time.time_ns() % 1_000_003)  # never compiled before

        @compiled
        def fresh(x: float) -> float:
            return x + offset

        with announcing(teller):
            self.assertEqual(in_threads(fresh, [1.0, 2.0]), [1.0 + offset, 2.0 + offset])
            self.assertEqual(fresh(3.0), 3.0 + offset)
        self.assertEqual(told, ["fresh", "done"])

    def test_what_is_broken_on_disk_is_made_anew(self) -> None:
        text = "define i64 @answer() {\n  ret i64 NUMBER\n}\ndefine void @wrapper(i8* %a, i8* %b) {\n  ret void\n}\n"
        script = (
            "import ctypes, sys; from dravik.compiled import kept; made = []\n"
            "def make(): made.append(1); return sys.argv[1], {}\n"
            "code = kept('answer', 'key', make)\n"
            "print(len(made), ctypes.CFUNCTYPE(ctypes.c_int64)(code.address('answer'))())"
        )

        def run(number: int) -> str:
            environment = {**os.environ, "XDG_CACHE_HOME": folder, "TMPDIR": other}
            done = subprocess.run(
                [sys.executable, "-c", script, text.replace("NUMBER", str(number))], capture_output=True, text=True,
                check=True, env=environment,
            )  # fmt: skip
            return done.stdout.strip()

        with (
            tempfile.TemporaryDirectory() as folder,
            tempfile.TemporaryDirectory() as other,
            tempfile.TemporaryDirectory() as empty,
        ):
            self.assertEqual(run(42), "1 42")
            self.assertEqual(run(43), "0 42")  # by its key, whatever the text
            (file,) = Path(folder).rglob("answer-*.o")
            whole = file.read_bytes()
            at = len(whole) * 2 // 3
            flipped = whole[:at] + bytes([whole[at] ^ 0x10]) + whole[at + 1 :]
            for broken in (b"", whole[:-7], b"x" + whole, whole[:-40] + bytes(40), flipped):
                file.write_bytes(broken)
                self.assertEqual(run(44), "1 44")
                file.write_bytes(whole)
            self.assertEqual(run(45), "0 42")
            file.chmod(0o666)  # others may have written to it
            self.assertEqual(run(45), "1 45")
            file.chmod(0o600)
            file.write_bytes(whole)
            # where no absolute folder is known none is used: not the working directory
            lost = "import os; os.path.expanduser = lambda path: path\n" + script
            done = subprocess.run(
                [sys.executable, "-c", lost, text.replace("NUMBER", "47")], capture_output=True, text=True, check=True,
                cwd=other, env={**os.environ, "XDG_CACHE_HOME": "here", "TMPDIR": empty},
            )  # fmt: skip
            self.assertEqual((done.stdout.strip(), list(Path(other).rglob("answer-*.o"))), ("1 47", []))
            # a folder that others may write to is none for machine code
            file.parent.chmod(0o777)
            self.assertEqual(run(46), "1 46")


class TextTest(unittest.TestCase):
    def test_numbers_are_those_of_c(self) -> None:
        rng = np.random.default_rng(1)
        rows = rng.normal(size=(400, 9)) * 10.0 ** rng.integers(-30, 30, size=(400, 9))
        rows[0] = [0.0, -0.0, np.nan, np.inf, -np.inf, 1.0, 10.0, 0.1, 1e10]
        rows[1] = [
            1e-5,
            1e-4,
            123456789012.0,
            9.9999999999e9,
            99999999995.0,
            5e-324,
            1.7976931348623157e308,
            1e100,
            -1e22,
        ]
        rows[2:40] = rng.integers(-1000, 1000, size=(38, 9)) * 0.5
        factors = np.array([1.0, -1.0, 57.29577951308232, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0])
        with np.errstate(over="ignore"):
            wanted = "".join(",".join(["%.10g"] * 9) % tuple(row) + "\n" for row in (rows * factors).tolist())
        self.assertEqual(as_lines(rows, factors).decode(), wanted)
        self.assertEqual(as_lines(np.zeros((0, 9)), factors), b"")


class OtherProcessTest(unittest.TestCase):
    def test_an_aircraft_is_sent_to_another_process(self) -> None:
        craft = dv.sample("tarn")
        point = dv.trim(craft, airspeed=62.0, altitude=300.0)
        script = "import pickle, sys; craft = pickle.load(sys.stdin.buffer); import dravik as dv\n" \
                 "print(repr(dv.trim(craft, airspeed=62.0, altitude=300.0)['alpha']))"  # fmt: skip
        for sent in (craft, craft.with_machine_code()):
            done = subprocess.run(
                [sys.executable, "-c", script], input=pickle.dumps(sent), capture_output=True, check=True
            )
            self.assertEqual(float(done.stdout), point["alpha"])


class LightTest(unittest.TestCase):
    def test_the_compiler_is_loaded_only_to_compile(self) -> None:
        script = (
            "import sys, io, contextlib; from dravik.cli import main; sys.argv = ['dravik', *sys.argv[1:]]\n"
            "with contextlib.redirect_stdout(io.StringIO()), contextlib.suppress(SystemExit): main()\n"
            "print(sorted({'numba', 'pint', 'scipy', 'matplotlib'} & set(sys.modules)))"
        )
        trim = ["trim", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m"]
        fly = ["fly", *trim[1:], "--duration", "3 s", "--turbulence", "moderate"]
        for _ in range(2):  # the first may have to compile
            told = {}
            for args in (["--help"], ["signals", "tarn"], trim, fly):
                done = subprocess.run([sys.executable, "-c", script, *args], capture_output=True, text=True, check=True)
                told[args[0]] = done.stdout.splitlines()[-1]
            if "numba" not in told["fly"]:
                break
        self.assertNotIn("numba", told.pop("fly"))
        self.assertEqual(told, {"--help": "[]", "signals": "[]", "trim": "[]"})


class OtherReleaseTest(unittest.TestCase):
    def test_a_release_of_numba_with_other_internals_has_a_way_on(self) -> None:
        """Numba as it comes gives the same numbers, has an address that others call, and is warned of once."""
        arguments = (Pair(np.arange(6.0).reshape(2, 3), np.array([2, 3])), WEIGHTS, 4, True, 0.5)
        expected = summed(*arguments)
        with mock.patch("dravik.compiled.without_internals.internals_work", return_value=False):
            again = compiled(summed.function)  # type: ignore[attr-defined]
            with mock.patch("dravik.compiled.functions.kept", side_effect=lambda name, key, make: make()):
                self.assertEqual(again(*arguments), expected)
                found = again.call_wrapper((Pair, "f8:1", "i", "b", "f"))
        self.assertIsInstance(found, PlainCall)
        self.assertNotEqual(found.address, 0)
        with (
            mock.patch("dravik.compiled.modules.machine_text", side_effect=AttributeError("gone")),
            self.assertWarnsRegex(RuntimeWarning, "other internals .AttributeError: gone.*compiled anew"),
        ):
            self.assertFalse(internals_work.__wrapped__())
        self.assertTrue(internals_work.__wrapped__())


if __name__ == "__main__":
    unittest.main()
