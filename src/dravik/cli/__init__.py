"""The command line: the commands in the order of the work; nothing is computed here."""

import _thread
import contextlib
import errno
import io
import os
import signal
import sys
import threading

from dravik.errors import DravikError, TrimError, readable
from dravik.threads import one_thread_for_matrices

__all__ = ["main"]

NO_OUTPUT = 3
GONE = (errno.EPIPE, errno.EBADF, errno.ENOSPC, errno.EIO)  # errors of an output that is closed or full


def main(arguments: list[str] | None = None) -> int:
    """Run the command line and return its exit code.

    0 done; 1 the answer is no; 2 the input was wrong; 3 the output could not be written (a reader that has gone, a full
    disk behind it); 130 interrupted.
    """
    one_thread_for_matrices()
    _tolerant_output()
    sys.unraisablehook = _again_if_lost
    try:
        code = _run(arguments)
        sys.stdout.flush()
        return code
    except OSError as error:
        with contextlib.suppress(OSError, ValueError):
            _say(f"{error.strerror or error}" + (f": {readable(str(error.filename))}" if error.filename else ""))
        if error.errno not in GONE:
            return 2
        # the reader of the pipe has gone: replace stdout, so that Python's own flush at exit does not fail too
        _discard_output()
        return NO_OUTPUT


def _run(arguments: list[str] | None) -> int:
    from dravik.cli.app import app
    from dravik.cli.common import kernel_notice

    try:
        with kernel_notice():
            app(arguments, prog_name="dravik")
    except SystemExit as end:
        # the argument parser turns a broken pipe into SystemExit
        if isinstance(end.__context__, OSError) and end.__context__.errno in GONE:
            raise end.__context__ from None
        return end.code if isinstance(end.code, int) else 0
    except TrimError as error:
        _say(str(error))
        return 1
    except DravikError as error:
        _say(str(error))
        return 2
    except KeyboardInterrupt:
        _say("stopped")
        return 130
    except MemoryError:
        _say("there is not enough memory for that; try: fewer signals, rows or points")
        return 2
    return 0


def _again_if_lost(lost: "sys.UnraisableHookArgs") -> None:
    """Interrupt again where an interrupt came while Python cleaned up after something, and was dropped."""
    if lost.exc_type is KeyboardInterrupt:
        threading.Timer(0.02, _interrupt).start()
    else:
        sys.__unraisablehook__(lost)


def _interrupt() -> None:
    """Interrupt the main thread, and wake it if it waits for the system."""
    main_thread = threading.main_thread().ident
    if hasattr(signal, "pthread_kill") and main_thread is not None:
        signal.pthread_kill(main_thread, signal.SIGINT)
    else:
        _thread.interrupt_main()


def _say(text: str) -> None:
    print(f"dravik: {text}", file=sys.stderr)


def _tolerant_output() -> None:
    """Let a terminal or a file that knows few characters have what it can show, and no output at all be none."""
    if sys.stdout is None:
        sys.stdout = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            with contextlib.suppress(OSError, ValueError):
                stream.reconfigure(errors="replace")


def _discard_output() -> None:
    with contextlib.suppress(OSError, ValueError):
        nothing = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nothing, sys.stdout.fileno())
