"""The command line: the commands in the order of the work; nothing is computed here."""

import _thread
import contextlib
import errno
import io
import json
import os
import signal
import sys
import threading

from dravik.errors import DefinitionError, DravikError, FlightError, OutputError, TrimError, readable
from dravik.host.cores import one_thread_for_matrices

__all__ = ["main"]

WRONG, NO_OUTPUT, INTERRUPTED = 2, 3, 130
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
    from dravik.cli.shared.common import kernel_notice

    as_json = "--json" in (sys.argv[1:] if arguments is None else arguments)
    try:
        with kernel_notice():
            app(arguments, prog_name="dravik")
    except SystemExit as end:
        # the argument parser turns a broken pipe into SystemExit
        if isinstance(end.__context__, OSError) and end.__context__.errno in GONE:
            raise end.__context__ from None
        code = end.code if isinstance(end.code, int) else 0
        if as_json and code == WRONG:  # the argument parser has told people what is wrong
            _print_json({"error": "the command line was not understood"}, code)
        return code
    except TrimError as error:
        return _told(error, 1, as_json=as_json)
    except FlightError as error:
        return _told(error, NO_OUTPUT if isinstance(error.__cause__, OutputError) else WRONG, as_json=as_json)
    except OutputError as error:
        return _told(error, NO_OUTPUT, as_json=as_json)
    except DravikError as error:
        return _told(error, WRONG, as_json=as_json)
    except KeyboardInterrupt:
        _say("stopped")
        if as_json:
            _print_json({"error": "stopped"}, INTERRUPTED)
        return INTERRUPTED
    except MemoryError:
        spent = DravikError("there is not enough memory for that", hint="fewer signals, rows or points")
        return _told(spent, WRONG, as_json=as_json)
    return 0


def _told(error: DravikError, code: int, *, as_json: bool) -> int:
    """Print an error for people, and for programs its parts; returns the exit code."""
    _say(str(error))
    if as_json:
        parts = (
            {"what": error.what, "where": error.where, "expected": error.expected, "try": error.hint}
            if not isinstance(error, DefinitionError)
            else {"problems": error.problems}
        )
        _print_json({"error": str(error), **parts}, code)
    return code


def _print_json(data: dict[str, object], code: int) -> None:
    print(json.dumps({**data, "exit": code}, indent=1))


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
