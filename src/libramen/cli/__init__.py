"""The command line: parse, one library call, print. It computes nothing."""

from __future__ import annotations

import contextlib
import errno
import os
import signal
import sys
import traceback
from typing import Any

from libramen.base.errors import LibramenError, printable

_FAILED_INSIDE = 3
_BAD_INPUT = 2
_NOT_WRITTEN = {errno.ENOSPC, errno.EDQUOT, errno.EIO, errno.EBADF}


def main(arguments: list[str] | None = None) -> None:
    """Run the command line and exit: 0 done, 1 not met (--strict), 2 bad input or usage, 3 failed inside."""
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:  # closed by whoever started us: nobody wants to read it
            setattr(sys, name, open(os.devnull, "w"))  # noqa: PTH123, SIM115
    for number in (signal.SIGTERM, getattr(signal, "SIGHUP", signal.SIGTERM)):
        signal.signal(number, _end)
    sys.exit(run(sys.argv[1:] if arguments is None else arguments))


def _end(number: int, _frame: object) -> None:
    """Leave as by an exception, so that temporary files and workers go too."""
    raise SystemExit(128 + number)


def run(arguments: list[str]) -> int:
    """Run the command line and return its exit status."""
    import typer

    from libramen.cli.app import app

    try:
        status = int(app(arguments, prog_name="libramen", standalone_mode=False) or 0)
        sys.stdout.flush()
    except LibramenError as error:
        return _say(str(error))
    except typer.TyperException as error:
        return _say(_usage(error.format_message(), arguments))
    except typer.Abort:
        return 130
    except BrokenPipeError:  # whoever read our output has seen enough
        _leave_output()
        return 0
    except OSError as error:
        if error.errno in _NOT_WRITTEN and error.filename is None:
            _leave_output()
            return _say(f"the output cannot be written: {error.strerror}")
        return _failed()
    except Exception:  # noqa: BLE001  (a mistake of ours: say so, and show where)
        return _failed()
    return status


def _leave_output() -> None:
    """Keep Python from writing what is left of the output when it exits."""
    with contextlib.suppress(OSError, ValueError):
        sys.stdout.close()
    sys.stdout = open(os.devnull, "w")  # noqa: PTH123, SIM115


def _failed() -> int:
    traceback.print_exc()
    print("libramen failed inside; this is a mistake in libramen, not in your input", file=sys.stderr)  # noqa: T201
    return _FAILED_INSIDE


def _say(sentence: str) -> int:
    with contextlib.suppress(OSError):
        print(f"libramen: {sentence}", file=sys.stderr)  # noqa: T201
    return _BAD_INPUT


def _usage(message: str, arguments: list[str]) -> str:
    """A usage error as one sentence with the way to more."""
    from typer.main import get_command

    from libramen.cli.app import app

    command: Any = get_command(app)
    path = ["libramen"]
    for word in arguments:
        if word in getattr(command, "commands", {}):
            command = command.commands[word]
            path.append(word)
    more = " ".join([*path, "--help"])
    sentence = printable(" ".join(message.split()).rstrip("."))
    return f"{sentence[:1].lower()}{sentence[1:]}; see {more}"
