"""The command line: the commands in the order of the work; nothing is computed here."""

import sys

from dravik.errors import DravikError, TrimError

__all__ = ["main"]


def main(arguments: list[str] | None = None) -> int:
    """Run the command line and return its exit code: 0 done, 1 the answer is no, 2 the input was wrong."""
    from dravik.cli.app import app

    try:
        app(arguments, prog_name="dravik")
    except SystemExit as end:
        return end.code if isinstance(end.code, int) else 0
    except TrimError as error:
        print(f"dravik: {error}", file=sys.stderr)
        return 1
    except DravikError as error:
        print(f"dravik: {error}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("stopped", file=sys.stderr)
        return 130
    return 0
