"""The command line as its users meet it, on the demo."""

from __future__ import annotations

import contextlib
import csv
import io
import json
from typing import TYPE_CHECKING, Any, NamedTuple

import pytest
from pyarrow import parquet

from libramen.cli import run
from libramen.engine.control import play

if TYPE_CHECKING:
    from pathlib import Path


class _Done(NamedTuple):
    returncode: int
    stdout: str
    stderr: str


def _libramen(*arguments: object) -> _Done:
    """Run a command here: another process would import everything anew."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = run([str(argument) for argument in arguments])
    return _Done(code, out.getvalue(), err.getvalue())


def _small_study(tmp_path: Path, *, trace: str = "at_s,cpu_s\n0,1\n1,1\n90,1\n", extra: str = "") -> Path:
    (tmp_path / "t.csv").write_text(trace)
    path = tmp_path / "study.toml"
    path.write_text(
        f"""
[trace]
files = ["t.csv"]
[service]
slots = 1
[objectives]
p95 = "1.5s"
month = 100
[tiers.berth]
billing = "per_hour"
[tiers.berth.sizes.small]
cores = 1
per_hour = 0.01
[tiers.berth.sizes.big]
cores = 1
speed = 2
per_hour = 1
[plans.cheap]
tier = "berth"
size = "small"
[plans.dear]
tier = "berth"
size = "big"
{extra}
"""
    )
    return path


def test_the_demo_teaches_something(demo_study: Path, hour_study: Path) -> None:
    """Run again on what is there already: it keeps the files, compares, and says what to do next."""
    before = {path.name: path.stat().st_mtime_ns for path in demo_study.parent.iterdir()}
    done = _libramen("demo", demo_study.parent)
    assert done.returncode == 0, done.stderr
    assert before == {path.name: path.stat().st_mtime_ns for path in demo_study.parent.iterdir()}
    assert "The cheapest plan that meets every objective is bare" in done.stdout
    for plan in ("single", "noon_release", "steady", "calm", "late", "brisk", "bare", "planned", "restless", "lamp"):
        assert plan in done.stdout
    hints = [line.strip() for line in done.stdout.splitlines() if line.startswith("  libramen ")]
    assert len(hints) == 4
    for hint in hints[:1] + hints[2:]:  # to compare is what it has just done
        again = _libramen(*hint.replace(str(demo_study.parent), str(hour_study.parent)).split()[1:])
        assert again.returncode == 0, again.stderr
    assert (hour_study.parent / "late.png").read_bytes().startswith(b"\x89PNG")


def test_json_of_a_comparison(demo_study: Path) -> None:
    done = _libramen("compare", demo_study, "--json")
    document = json.loads(done.stdout)
    assert done.stderr == ""
    assert (document["cheapest"], document["nearest"]) == ("bare", "bare")
    plans = {outcome["plan"]: outcome for outcome in document["plans"]}
    assert list(plans["single"]) == [
        "plan", "tier", "size", "seed", "start", "time_zone", "span_s", "requests", "attempts", "endings", "latency_s", "availability", "utilisation",
        "replicas", "month", "answered_s", "bill", "objectives", "worst_hour", "time_s", "bytes_out", "deaths", "findings", "events", "costs",
    ]  # fmt: skip
    for outcome in plans.values():
        assert outcome["requests"] >= 600_000
        assert sum(outcome["endings"].values()) == outcome["requests"]
        assert round(sum(line["amount"] for line in outcome["bill"]["lines"]), 2) == outcome["bill"]["month"]
    # What the demo is there to show.
    assert plans["single"]["availability"]["requests"] < 0.9
    assert plans["noon_release"]["replicas"]["min"] == 0
    assert plans["late"]["availability"]["requests"] < 0.95 < 0.999 < plans["brisk"]["availability"]["requests"]
    assert plans["calm"]["bill"]["month"] > 2 * plans["brisk"]["bill"]["month"]
    found = {name: {finding["kind"] for finding in outcome["findings"]} for name, outcome in plans.items()}
    assert "reacted_late" in found["late"]
    assert "flapping" in found["restless"]
    assert "flapping" not in found["brisk"]
    assert "first_visitor_waited" in found["lamp"]
    assert "bank_empty" in found["lent"]
    assert not found["planned"] | found["calm"]


def test_one_replay(tmp_path: Path) -> None:
    study = _small_study(tmp_path)
    done = _libramen(
        "replay", study, "--plan", "cheap", "--requests", tmp_path / "r.parquet", "--plot", tmp_path / "p.svg"
    )
    assert done.returncode == 0, done.stderr
    assert "All 3 requests were answered." in done.stdout
    table = parquet.read_table(tmp_path / "r.parquet").to_pydict()
    assert list(table) == ["at_s", "route", "latency_s", "queued_s", "ending", "replica", "attempts"]
    assert table["latency_s"] == [1, 1, 1]
    assert (tmp_path / "p.svg").read_text().startswith("<?xml")
    assert sorted(path.name for path in tmp_path.iterdir()) == ["p.svg", "r.parquet", "study.toml", "t.csv"]


def test_null_where_there_is_nothing(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """A fleet of none: no latency, no utilisation, no replica."""
    study = _small_study(tmp_path, extra="replicas = 0\n[tiers.berth.replicas]\nleast = 0\n")
    assert run(["replay", str(study), "--plan", "dear", "--json"]) == 0
    document = json.loads(capsys.readouterr().out)
    assert document["latency_s"]["p95"] is None
    assert document["utilisation"] is None
    assert document["objectives"][0] == {
        "name": "p95", "wanted": 1.5, "got": None, "met": False, "within": 0, "minutes": {"met": 0, "of": 2},
    }  # fmt: skip


def test_strict(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """`cheap` meets both objectives and `dear` does not (730 a month)."""
    study = str(_small_study(tmp_path))
    assert run(["compare", study, "--strict"]) == 0
    assert run(["replay", study, "--plan", "dear", "--strict"]) == 1
    assert run(["replay", study, "--plan", "dear"]) == 0
    assert run(["check", study, "--strict"]) == 1
    assert (
        "even with 1 replicas and no egress a month costs 730.00 EUR, the objective is 100.00 EUR"
        in capsys.readouterr().out
    )


def test_check_says_what_cannot_work(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Minute 0 has 200 s of work: 4 replicas at 100 %. Alone it takes 2 s each at p95, more than 1.5 s."""
    rows = "".join(f"{k / 2},2\n" for k in range(100))
    study = str(_small_study(tmp_path, trace="at_s,cpu_s\n" + rows))
    assert run(["check", study]) == 0
    found = capsys.readouterr().out
    assert "cheap: the busiest minute needs 4 replicas of this size at 100 % of their CPU, the plan has 1" in found
    assert "cheap: p95 of 1.5 s cannot be met: on this size it is 2 s even for requests without queueing" in found
    assert run(["check", study, "--json"]) == 0
    document = json.loads(capsys.readouterr().out)
    assert document["works"] is False
    assert [plan["needs_cpu"] for plan in document["plans"]] == [4, 2]


def test_skipped_lines_are_told_on_stderr(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    study = str(_small_study(tmp_path, trace="at_s,cpu_s\n0,1\n5\n90,1\n"))
    assert run(["replay", study, "--plan", "cheap", "--json"]) == 0
    captured = capsys.readouterr()
    assert json.loads(captured.out)["requests"] == 2
    assert "1 of 3 lines could not be read" in captured.err
    assert "t.csv:3: 1 values where the header has 2" in captured.err


@pytest.mark.parametrize(
    ("arguments", "sentence"),
    [
        (["compare", "no.toml"], "no.toml: there is no such file"),
        (["compare", "."], ".: found a directory; allowed: a study file"),
        (["compare", "empty.toml"], "empty.toml: [trace] is missing"),
        (["compare", "binary.toml"], "binary.toml: byte 0 is not UTF-8 text"),
        (["replay", "study.toml", "--plan", "chep"], "there is no plan 'chep'; did you mean 'cheap'?"),
        (["replay", "study.toml"], "missing option '--plan'; see libramen replay --help"),
        (["search"], "missing argument 'STUDY'; see libramen search --help"),
        (["trace", "make"], "missing option '--out'; see libramen trace make --help"),
        (["--nonsense"], "see libramen --help"),
        (["headroom", "study.toml", "--grow", "-5%"], "--grow: found '-5%'; allowed: a share such as"),
        (["replay", "study.toml", "--plan", "cheap", "--plot", "x.jpg"], "x.jpg: found the ending '.jpg'; allowed: .png or .svg"),
        (["replay", "study.toml", "--plan", "cheap", "--plot", "no/x.png"], "no/x.png: there is no directory no"),
        (["replay", "study.toml", "--plan", "cheap", "--requests", "x.csv"], "x.csv: found the ending '.csv'; allowed: .parquet"),
        (["replay", "study.toml", "--plan", "cheap", "--requests", "dir.parquet"], "dir.parquet: found a directory"),
        (["compare", "study.toml", "--seed", "-1"], "invalid value for '--seed'"),
        (["compare", "study.toml", "--sed", "1"], "no such option: --sed"),
        (["compere", "study.toml"], "no such command 'compere'"),
        (["compare"], "missing argument 'STUDY'"),
        (["demo", "study.toml"], "study.toml: found a file; allowed: a directory"),
        (["demo", "changed"], "changed/study.toml: was changed and is left as it is"),
    ],
)  # fmt: skip
def test_one_sentence_for_each_mistake(
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
    arguments: list[str],
    sentence: str,
) -> None:
    _small_study(tmp_path)
    (tmp_path / "empty.toml").touch()
    (tmp_path / "binary.toml").write_bytes(b"\xff\xfe\x00\x01")
    (tmp_path / "dir.parquet").mkdir()
    (tmp_path / "changed").mkdir()
    (tmp_path / "changed" / "study.toml").write_text("mine")
    monkeypatch.chdir(tmp_path)
    before = sorted(path.name for path in tmp_path.rglob("*"))
    assert run(arguments) == 2
    captured = capsys.readouterr()
    assert captured.out == ""
    assert sentence in captured.err
    assert captured.err.count("\n") == 1
    assert "Traceback" not in captured.err
    assert sorted(path.name for path in tmp_path.rglob("*")) == before


@pytest.mark.parametrize(
    ("trace", "sentence"),
    [
        ("", "t.csv: the file is empty"),
        ("at_s,cpu_s\n5,1\n1,1\n", "at_s must not go back: row 2 has 1 s after 5 s"),
        ("at_s,cpu_s\n0,NaN\n", "cpu_s: row 1 has no number"),
        ("\x00\x01\x02", "found binary data"),
    ],
)
def test_one_sentence_for_each_bad_trace(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], trace: str, sentence: str
) -> None:
    assert run(["compare", str(_small_study(tmp_path, trace=trace))]) == 2
    captured = capsys.readouterr()
    assert sentence in captured.err
    assert captured.err.count("\n") == 1


def test_an_output_that_cannot_be_written_keeps_what_was_there(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    study, target = _small_study(tmp_path), tmp_path / "r.parquet"
    target.write_text("old")

    def fail(*_: object, **__: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(parquet, "write_table", fail)
    assert run(["replay", str(study), "--plan", "cheap", "--requests", str(target)]) == 2
    assert target.read_text() == "old"
    assert sorted(path.name for path in tmp_path.iterdir()) == ["r.parquet", "study.toml", "t.csv"]


@pytest.mark.parametrize("command", ["demo", "check", "replay", "compare", "prepare", "trace inspect", "trace make"])
def test_help_has_an_example(command: str, capsys: pytest.CaptureFixture[str]) -> None:
    assert run([*command.split(), "--help"]) == 0
    _, _, example = capsys.readouterr().out.partition("Examples:")
    assert example.split()[: 1 + len(command.split())] == ["libramen", *command.split()]


def test_the_version(capsys: pytest.CaptureFixture[str]) -> None:
    assert run(["--version"]) == 0
    assert capsys.readouterr().out.startswith("libramen 0.")


def test_replay_says_where_the_time_went(tmp_path: Path) -> None:
    """Two routes at once on one slot of a second each: `b` waits a second for `a`."""
    trace = "at_s,cpu_s,wait_s,route\n0,1,0,a\n0,0.5,0.5,b\n30,0,0,c\n"
    study = _small_study(tmp_path, trace=trace, extra='[objectives.routes.b]\np95 = "1s"\n')
    done = _libramen("replay", study, "--plan", "cheap")
    table = done.stdout.partition("where the time went")[2].splitlines()
    lines = {line.split()[0]: line.split() for line in table[:6] if line[:2] in {"a ", "b "}}
    # requests, available, p95, mean, queued, CPU, slowed, waiting, network
    assert " ".join(lines["a"][1:]) == "1 100 % 1 s 1 s 0 s 1 s 0 s 0 s 0 s"
    assert " ".join(lines["b"][1:]) == "1 100 % 2 s 2 s 1 s 500 ms 0 s 500 ms 0 s"
    assert "routes.b.p95" in done.stdout
    document = json.loads(_libramen("replay", study, "--plan", "cheap", "--json").stdout)
    assert [(route["route"], route["latency_s"]["max"]) for route in document["routes"]] == [
        ("a", 1),
        ("b", 2),
        ("c", 0),
    ]
    assert document["objectives"][-1] == {
        "name": "routes.b.p95",
        "wanted": 1,
        "got": 2,
        "met": False,
        "within": 0,
        "minutes": {"met": 0, "of": 1},
    }
    assert document["time_s"]["queued"] == 1


def test_check_knows_memory_and_lent_cpu(tmp_path: Path) -> None:
    extra = """
[tiers.berth.sizes.lent]
cores = 1
per_hour = 0.01
memory = "500 MB"
steady_cores = 0.01
bank = 60
[plans.lent]
tier = "berth"
size = "lent"
"""
    study = _small_study(tmp_path, extra=extra)
    text = study.read_text().replace("slots = 1\n", 'slots = 6\nmemory_base = "300 MB"\nmemory_per_request = "50 MB"\n')
    study.write_text(text)
    done = _libramen("check", study, "--strict")
    assert done.returncode == 1
    assert (
        "lent: a replica runs out of memory with 5 requests in progress: its 0.5 GB hold 4, and it has 6" in done.stdout
    )
    assert "its CPU is only lent: the trace needs 0.0333 cores on average, 1 of this size earn 0.01" in done.stdout
    study.write_text(text.replace('"300 MB"', '"480 MB"'))
    assert "not one request fits into the 0.5 GB of a replica" in _libramen("check", study).stdout


def test_out_of_memory_is_told(tmp_path: Path) -> None:
    """Three of 100 MB at once in 250 MB: all are lost, and the replica starts again."""
    study = _small_study(tmp_path, trace="at_s,cpu_s\n0,1\n0,1\n0,1\n9,1\n")
    text = study.read_text().replace("slots = 1\n", 'slots = 3\nmemory_per_request = "100 MB"\n')
    study.write_text(text.replace("per_hour = 0.01\n", 'per_hour = 0.01\nmemory = "250 MB"\n'))
    done = _libramen("replay", study, "--plan", "cheap")
    assert "3 of 4 requests failed (3 lost)" in done.stdout
    assert "Out of memory 1 time on 1 replica, first at 0 s after the start" in done.stdout


def test_ctrl_c_leaves_nothing_half_written(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Interrupted in the middle of the replay: status 130, no table of requests, nothing said."""
    ticks = []

    def interrupted(clock: Any, now_s: float, tick: Any = play._Clock._tick) -> None:
        ticks.append(now_s)
        if len(ticks) == 50:
            raise KeyboardInterrupt
        tick(clock, now_s)

    study, out = _small_study(tmp_path), tmp_path / "out.parquet"
    monkeypatch.setattr(play._Clock, "_tick", interrupted)
    assert run(["replay", str(study), "--plan", "cheap", "--requests", str(out)]) == 130
    assert len(ticks) == 50
    assert not list(tmp_path.glob("*.parquet*"))


def test_decisions_as_a_table(demo_study: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """One row a decision, with when what it ordered came; and what is found in text is what is found in JSON."""
    out = tmp_path / "late.csv"
    assert run(["replay", str(demo_study), "--plan", "late", "--decisions", str(out), "--json"]) == 0
    document = json.loads(capsys.readouterr().out)
    with out.open() as file:
        rows = list(csv.DictReader(file))
    assert list(rows[0]) == [
        "at_s", "time", "window_from_s", "window_to_s", "measure", "measured", "ready", "coming", "leaving", "floor",
        "ceiling", "wanted", "held_by", "ordered", "cancelled", "drained", "came_s",
    ]  # fmt: skip
    assert len(rows) == 2 * 24 * 60
    ordered = [row for row in rows if row["ordered"] != "0"]
    assert document["replicas"]["cold_starts"] == len(ordered)
    # 70 s for the machine, and a start-up that takes some seconds.
    assert all(70 < float(row["came_s"]) - float(row["at_s"]) < 100 for row in ordered)
    assert run(["replay", str(demo_study), "--plan", "late"]) == 0
    shown = capsys.readouterr().out
    assert document["findings"]
    assert all(finding["text"] in shown for finding in document["findings"])
    assert run(["replay", str(demo_study), "--plan", "late", "--decisions", "late.txt"]) == 2
    assert "found the ending '.txt'; allowed: .csv" in capsys.readouterr().err


def test_completion_can_be_installed_and_bars_are_for_terminals(
    capsys: pytest.CaptureFixture[str], hour_study: Path
) -> None:
    assert run(["--help"]) == 0
    assert "--install-completion" in capsys.readouterr().out
    done = _libramen("check", hour_study, "--no-cache")
    assert (done.returncode, done.stderr) == (0, "")


@pytest.mark.parametrize(
    ("line", "wanted"),
    [("replay STUDY --plan b", ["brisk", "bare"]), ("compare STUDY --plan la", ["late", "lamp"]), ("re", ["replay", "report"]),
     ("replay nothing.toml --plan b", [])],
)  # fmt: skip
def test_completion_in_the_shell(
    line: str, wanted: list[str], hour_study: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Commands and options, and the plans of the study that stands on the line."""
    words = f"libramen {line}".replace("STUDY", str(hour_study))
    monkeypatch.setenv("COMP_WORDS", words)
    monkeypatch.setenv("COMP_CWORD", str(len(words.split()) - 1))
    monkeypatch.setenv("_LIBRAMEN_COMPLETE", "complete_bash")
    with pytest.raises(SystemExit):
        run([])
    assert capsys.readouterr().out.split() == wanted


def test_help_is_in_groups() -> None:
    text = _libramen("replay", "--help").stdout
    headings = [line for line in text.splitlines() if line.endswith(":") and not line.startswith(" ")]
    assert headings == [
        "Arguments:", "What is asked:", "How it is replayed:", "What comes out:", "Help:", "Exit status:", "Examples:",
    ]  # fmt: skip
    assert "  1  something that --strict asks for is not met\n" in text
    assert '  libramen replay saltmarsh/study.toml --plan late --from "Thu 17:45" --to "Thu 18:30"\n' in text
    assert "--strict" not in _libramen("prepare", "--help").stdout
    every = _libramen("--help").stdout
    assert every.index("Plans:") < every.index("  compare ") < every.index("Handing over:") < every.index("  report ")
    assert "..." not in every.split("Begin:")[1]  # sentences are whole
