"""The command line: parse, one library call, print. It computes nothing."""

from __future__ import annotations

import sys
import traceback

from libramen.errors import LibramenError

_FAILED_INSIDE = 3
_BAD_INPUT = 2


def main(arguments: list[str] | None = None) -> None:
    """Run the command line and exit: 0 done, 1 not met (--strict), 2 bad input or usage, 3 failed inside."""
    sys.exit(run(sys.argv[1:] if arguments is None else arguments))


def run(arguments: list[str]) -> int:
    """Run the command line and return its exit status."""
    import typer

    from libramen.cli.app import app

    try:
        return int(app(arguments, prog_name="libramen", standalone_mode=False) or 0)
    except LibramenError as error:
        return _say(str(error))
    except typer.TyperException as error:
        return _say(_usage(error.format_message(), arguments))
    except typer.Abort:
        return 130
    except BrokenPipeError:
        # Whoever read our output has gone; keep Python from complaining when it flushes at exit.
        sys.stdout = open("/dev/null", "w")  # noqa: PTH123, SIM115
        return 0
    except Exception:  # noqa: BLE001  (a mistake of ours: say so, and show where)
        traceback.print_exc()
        print("libramen failed inside; this is a mistake in libramen, not in your input", file=sys.stderr)  # noqa: T201
        return _FAILED_INSIDE


def _say(sentence: str) -> int:
    print(f"libramen: {sentence}", file=sys.stderr)  # noqa: T201
    return _BAD_INPUT


def _usage(message: str, arguments: list[str]) -> str:
    """A usage error as one sentence with the way to more."""
    command = next((word for word in arguments if not word.startswith("-")), "")
    more = (
        f"libramen {command} --help"
        if command in {"demo", "replay", "compare", "check", "trace"}
        else "libramen --help"
    )
    sentence = " ".join(message.split()).rstrip(".")
    return f"{sentence[:1].lower()}{sentence[1:]}; see {more}"
