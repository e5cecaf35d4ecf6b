"""How fast a combined log is read: against a loop with a regular expression, on the same lines in one run.

    python benchmarks/reading.py [--lines 5000000]

The loop does what one would write by hand: match, time stamp, status, bytes, request time. It gets a tenth of the
lines, since it takes longer. The peak of memory is that of the whole process that reads the log, the loop left out.
"""

from __future__ import annotations

import argparse
import multiprocessing
import re
import resource
import tempfile
import time
from datetime import datetime
from pathlib import Path

LINE = re.compile(r'(\S+) (\S+) (\S+) \[([^\]]+)\] "([^"]*)" (\d{3}) (\d+|-) "([^"]*)" "([^"]*)" (\d+(?:\.\d+)?)$')


def write_log(path: Path, lines: int) -> None:
    """Ten requests a second, from as many visitors as a day has."""
    agent = '"-" "pocket-timetable/2"'
    with path.open("w") as log:
        for second in range(lines // 10):
            stamp = time.strftime("%d/%b/%Y:%H:%M:%S +0000", time.gmtime(1_938_414_600 + second))
            for k in range(10):
                took = 0.010 + (second * 7 + k * 131) % 500 / 1000
                log.write(
                    f'visitor-{(second * 13 + k) % 9000} - - [{stamp}] "GET /timetable/{k % 4} HTTP/1.1" '
                    f"200 {1000 + k * 77} {agent} {took:.3f}\n"
                )


def read_with_loop(path: Path, most: int) -> float:
    """Lines a second."""
    rows = []
    began = time.perf_counter()
    with path.open() as log:
        for line in log:
            match = LINE.match(line.rstrip("\n"))
            if match is None:
                continue
            stamp = datetime.strptime(match[4], "%d/%b/%Y:%H:%M:%S %z").timestamp()
            size = 0 if match[7] == "-" else int(match[7])
            rows.append((stamp, match[5].split(" ")[1], int(match[6]), size, float(match[10])))
            if len(rows) == most:
                break
    return len(rows) / (time.perf_counter() - began)


def read_with_libramen(path: Path, results: multiprocessing.Queue[tuple[float, float]]) -> None:
    from libramen.trace.options import ReadOptions
    from libramen.trace.read import read_requests

    began = time.perf_counter()
    trace, *_ = read_requests(path, ReadOptions())
    rate = len(trace) / (time.perf_counter() - began)
    results.put((rate, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--lines", type=int, default=1_000_000)
    lines = parser.parse_args().lines
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "access.log"
        write_log(path, lines)
        print(f"{lines:,} lines, {path.stat().st_size / 1e6:,.0f} MB")
        context = multiprocessing.get_context("spawn")
        results = context.Queue()
        process = context.Process(target=read_with_libramen, args=(path, results))
        process.start()
        rate, peak = results.get()
        process.join()
        loop = read_with_loop(path, max(1, lines // 10))
        print(f"libramen {rate:12,.0f} lines a second, peak of memory {peak:,.0f} MiB")
        print(f"loop     {loop:12,.0f} lines a second")
        print(f"ratio    {rate / loop:12.1f}")


if __name__ == "__main__":
    main()
