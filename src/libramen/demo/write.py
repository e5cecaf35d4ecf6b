"""Writes the demos: a study, its tiers, and the logs and the CPU use of two days as today's servers had them."""

from __future__ import annotations

import gzip
from importlib.resources import files
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.base.errors import OutputError
from libramen.base.fields import nearest
from libramen.base.files import write_whole
from libramen.base.streams import stream
from libramen.demo.cabins import make_hour
from libramen.demo.islands import make_noon
from libramen.demo.landing import make_landing
from libramen.demo.make import SEED, make_day
from libramen.engine.border.records import Ending
from libramen.outcome.replay import replay
from libramen.study.file import load_study
from libramen.trace.write import write_trace

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable
    from pathlib import Path

    from libramen.outcome.outcome import Outcome

LOG: Final = "saltmarsh.log.gz"
ORDINARY_LOG: Final = "wednesday.log.gz"
CPU_USE: Final = "cpu.csv"
CABINS: Final = "cabins.parquet"
LANDING: Final = "landing.parquet"
ISLANDS: Final = "islands.parquet"
_VISITORS: Final = {LOG: 100, ORDINARY_LOG: 500}
"""Numbers of the streams from which it is drawn who came."""
STUDIES: Final[dict[str, dict[str, str]]] = {
    "saltmarsh": {"study.toml": "study.toml", "tiers.toml": "tiers.toml"},
    "cabins": {"study.toml": "cabins.toml"},
    "landing": {"study.toml": "landing.toml"},
    "islands": {"study.toml": "islands.toml"},
}
"""The studies that are shipped: what their files are called, and from which text each is."""


def write_demo(
    directory: Path,
    progress: Callable[[float], None] | None = None,
    before_replay: Callable[[], None] = lambda: None,
    *,
    study: str = "saltmarsh",
) -> Path:
    """Write a study of Saltmarsh Ferries into a directory, and return the path of its study file.

    Files that are there already and are as they would be written stay as they are.

    Args:
        directory: made if it is not there.
        progress: called with the share that is done, from 0 to 1.
        before_replay: called when the requests are made and are going to be replayed on today's servers.
        study: `"saltmarsh"`, two days with one service; `"cabins"`, an hour with four that call each other;
            `"landing"`, an hour with releases and faults; or `"islands"`, two hours of users in two places.

    Raises:
        OutputError: there is no such study; it cannot be written, or holds a study that was changed.
    """
    if study not in STUDIES:
        raise OutputError(f"study: found {study!r}; {nearest(study, STUDIES)}")
    try:
        directory.mkdir(parents=True, exist_ok=True)
    except (FileExistsError, NotADirectoryError):
        raise OutputError(f"{directory}: found a file; allowed: a directory, or a name that is free") from None
    except OSError as error:
        raise OutputError(f"{directory}: cannot be made: {error.strerror}") from None
    for name, source in STUDIES[study].items():
        text, path = (files("libramen.demo") / source).read_bytes(), directory / name
        if not path.exists():
            write_whole(path, lambda temporary, text=text: _write(temporary, text))  # type: ignore[misc]
        elif path.read_bytes() != text:
            raise OutputError(
                f"{path}: was changed and is left as it is; allowed: another directory, or comparing this one"
            )
    made = {"cabins": (make_hour, CABINS), "landing": (make_landing, LANDING), "islands": (make_noon, ISLANDS)}
    if study in made:
        make, name = made[study]
        if not (directory / name).exists():
            write_trace(make(), directory / name)
    elif not all((directory / name).exists() for name in (LOG, ORDINARY_LOG, CPU_USE)):
        outcomes = _today(directory / "study.toml", progress, before_replay)
        for name, outcome in zip((ORDINARY_LOG, LOG), outcomes, strict=True):
            visitors = _VISITORS[name]
            write_whole(directory / name, lambda path, outcome=outcome, of=visitors: write_log(outcome, path, of))  # type: ignore[misc]
        write_whole(directory / CPU_USE, lambda temporary: write_cpu_use(outcomes, temporary))
    return directory / "study.toml"


def _write(path: Path, data: bytes) -> None:
    path.write_bytes(data)


def _today(study: Path, progress: Callable[[float], None] | None, before_replay: Callable[[], None]) -> list[Outcome]:
    """The ordinary day and the one of the festival as they went on today's servers."""
    loaded = load_study(study)
    days = [make_day(is_ordinary=True), make_day()]
    before_replay()
    outcomes = []
    for place, day in enumerate(days):

        def told(share: float, place: int = place) -> None:
            if progress is not None:
                progress((place + share) / len(days))

        outcomes.append(replay(day, loaded.service, loaded.plans["today"], progress=told))
    return outcomes


def write_cpu_use(outcomes: Iterable[Outcome], path: Path) -> None:
    """Write the cores in use of each minute as monitoring would have measured them, 2 % off now and then."""
    lines = ["time,cores"]
    for outcome, number in zip(outcomes, (401, 101), strict=True):
        run, trace = outcome.run.only, outcome.trace
        cores = np.diff(run.integrals[:, 0]) / np.diff(run.edges_s)
        cores *= 1 + 0.02 * stream(SEED, "demo", number).standard_normal(len(cores))
        for at_s, used in zip(run.edges_s[:-1].tolist(), cores.tolist(), strict=True):
            when = trace.local_time(at_s)
            assert when is not None
            lines.append(f"{when.isoformat()},{max(0.0, used):.4f}")
    path.write_text("\n".join(lines) + "\n", encoding="ascii")


def write_log(outcome: Outcome, path: Path, visitors: int = 100) -> None:
    """Write the requests of a replay as a combined log with the request time in seconds behind it.

    Lines stand in the order of the answers, each stamped with the whole second of its answer.

    Args:
        outcome: the replay.
        path: of the log.
        visitors: number of the stream from which it is drawn who came.
    """
    trace, results = outcome.trace, outcome.run.results
    assert results is not None
    assert trace.start is not None
    assert trace.bytes_out is not None
    answered_s = trace.at_s + results.latency_s
    order = np.argsort(answered_s, kind="stable")
    stamps = [f"{trace.local_time(second):%d/%b/%Y:%H:%M:%S %z}" for second in range(int(answered_s.max()) + 1)]
    visitor = stream(SEED, "demo", visitors).integers(1, 9000, len(trace))
    is_ok = results.ending == Ending.OK
    verb = ["POST" if route == "/tickets/scan" else "GET" for route in trace.routes]
    columns = zip(
        visitor[order].tolist(),
        answered_s[order].astype(int).tolist(),
        trace.route_codes[order].tolist(),
        is_ok[order].tolist(),
        trace.bytes_out[order].astype(int).tolist(),
        results.latency_s[order].tolist(),
        strict=True,
    )
    # A fixed time and name in the header, so that the same seed gives the same bytes.
    with path.open("wb") as raw, gzip.GzipFile("", "wb", compresslevel=5, fileobj=raw, mtime=0) as log:
        lines = (
            f'visitor-{who} - - [{stamps[second]}] "{verb[route]} {trace.routes[route]} HTTP/1.1" '
            f'{200 if ok else 503} {size if ok else 0} "-" "pocket-timetable/2" {took:.3f}\n'
            for who, second, route, ok, size, took in columns
        )
        log.write("".join(lines).encode("ascii"))
