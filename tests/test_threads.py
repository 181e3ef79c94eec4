"""Work that is shared out to cores: threads, copies of the process, and matrix libraries that keep to themselves."""

import subprocess
import sys
import tempfile
import time
import unittest
from contextlib import ExitStack
from pathlib import Path
from unittest import mock

import scipy.linalg  # noqa: F401  brings a matrix library of its own
import threadpoolctl

from dravik.host import cores as threads


class ThreadTest(unittest.TestCase):
    def test_results_come_in_order_and_the_first_error_is_raised(self) -> None:
        def act(k: int) -> int:
            time.sleep(0.01 * (5 - k))  # the last ones are done first
            if k in (2, 3):
                raise ValueError(f"item {k}")
            return k * k

        for count in (1, 2, 4):
            with mock.patch.object(threads, "cores", return_value=count):
                self.assertEqual(threads.in_threads(act, [0, 1, 4, 5]), [0, 1, 16, 25])
                self.assertEqual(threads.in_threads(act, []), [])
                with self.assertRaisesRegex(ValueError, "item 2"):
                    threads.in_threads(act, range(5))

    def test_matrix_libraries_have_one_thread_meanwhile(self) -> None:
        def counts() -> list[int]:
            return [i["num_threads"] for i in threadpoolctl.threadpool_info() if i["user_api"] == "blas"]

        before = counts()
        with threads.matrices_in_one_thread():
            self.assertEqual(set(counts()), {1})
        self.assertEqual(counts(), before)
        # two who overlap, such as recordings of two flights: the first to end must not end it for the other
        one, other = ExitStack(), ExitStack()
        one.enter_context(threads.matrices_in_one_thread())
        other.enter_context(threads.matrices_in_one_thread())
        one.close()
        self.assertEqual(set(counts()), {1})
        other.close()
        self.assertEqual(counts(), before)

    def test_copies_of_the_process_take_their_shares(self) -> None:
        # in a process of its own, which has no other thread
        script = (
            "import os, sys, threading, time; from pathlib import Path; from dravik.host import cores\n"
            "cores.cores = lambda: 3; folder, me, kind = Path(sys.argv[1]), os.getpid(), sys.argv[2]\n"
            "def act(k):\n"
            "    if kind == 'fails' and os.getpid() != me: raise ValueError('a copy fails')\n"
            "    if kind == 'raises' and k == 4: raise ValueError('item 4')\n"
            "    (folder / f'{k}').write_text('here' if os.getpid() == me else 'copy')\n"
            "if kind == 'thread': threading.Thread(target=time.sleep, args=(20,), daemon=True).start()\n"
            "try: cores.shared_out(act, range(7))\n"
            "except ValueError as error: print(error)\n"
        )
        for kind, printed, copies in (("works", "", 4), ("fails", "", 0), ("raises", "item 4\n", 4), ("thread", "", 0)):
            with self.subTest(kind), tempfile.TemporaryDirectory() as folder:
                done = subprocess.run(
                    [sys.executable, "-W", "error", "-c", script, folder, kind],
                    capture_output=True,
                    text=True,
                    check=True,
                )
                self.assertEqual(done.stdout, printed)
                written = {int(p.name): p.read_text() for p in Path(folder).iterdir()}
                expected = set(range(7)) - ({4} if kind == "raises" else set())
                self.assertEqual(set(written), expected)
                if sys.platform == "linux":
                    # two copies of three have items 1, 4 and 2, 5; where one fails its share is done again here
                    wanted = copies - (2 if kind == "raises" else 0)
                    self.assertEqual(list(written.values()).count("copy"), wanted)


if __name__ == "__main__":
    unittest.main()
