"""Figures that are kept: the same as replayed, whatever was changed meanwhile, and whatever happened to the file."""

from __future__ import annotations

import contextlib
import gc
import json
import multiprocessing
import os
import signal
import sqlite3
import subprocess
import sys
import time
import zlib
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from typer.testing import CliRunner

from builders import BY_CPU, SOLD, demo_in, make_case, write_study
from libramen import OutputError, Store, compare, headroom, load_study, search
from libramen.cli.app import app
from libramen.outcome.replay import replay_system
from libramen.runs import cases, pool
from libramen.runs.store import MISSING, _checksum

if TYPE_CHECKING:
    from pathlib import Path

    from libramen import Study


def _study(folder: Path, **values: Any) -> Study:
    rng = np.random.default_rng(3)
    at = np.cumsum(rng.exponential(0.3, 900))
    cpu, wait = rng.exponential(0.4, (2, 900))
    said = {"p95": "4s", "availability": "95%", "month": 200, "price": 0.03, "tier": "convoy", "plan": "one"} | values
    tier = SOLD["convoy"] | {"sizes": {"small": {"cores": 1, "per_hour": said["price"]}}}
    return load_study(
        write_study(
            folder,
            {"at_s": at, "cpu_s": cpu, "wait_s": wait},
            {said["tier"]: tier},
            {said["plan"]: {"tier": said["tier"]}, "scaled": {"tier": said["tier"], "scaling": BY_CPU}},
            service={"slots": 2, "backlog": 4, "timeout": "6s"},
            objectives={key: said[key] for key in ("p95", "availability", "month")},
        )
    )


@pytest.fixture
def replays(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """Names of the plans that are replayed."""
    made: list[str] = []

    def counted(trace: Any, system: Any, *arguments: Any, **named: Any) -> Any:
        made.append(system.name)
        return replay_system(trace, system, *arguments, **named)

    for module in (cases, sys.modules["libramen.questions.bounded_search"]):
        monkeypatch.setattr(module, "replay_system", counted)
    return made


def test_nothing_is_replayed_twice(tmp_path: Path, replays: list[str]) -> None:
    study, store = _study(tmp_path), Store(tmp_path / "s.sqlite")
    found = compare(study, store=store)
    assert sorted(replays) == ["one", "scaled"]
    replays.clear()
    again = compare(study, store=Store(tmp_path / "s.sqlite"))
    assert not replays
    assert again.figures == found.figures == compare(study).figures
    assert again.to_dict() == found.to_dict()
    assert store.size().entries == 2
    assert store.clear() == 2
    assert store.size().entries == 0


@pytest.mark.parametrize(
    ("changed", "is_replayed"),
    [
        ({"price": 0.07}, False),
        ({"month": 10}, False),
        ({"availability": "99.9%"}, False),
        ({"plan": "other", "tier": "barge"}, False),
        ({"p95": "1s"}, True),
    ],
)
def test_what_a_change_costs(tmp_path: Path, replays: list[str], changed: dict[str, Any], *, is_replayed: bool) -> None:
    """Prices, verdicts and names are worked out again; a limit of latency was counted, so it needs a replay."""
    store = Store(tmp_path / "s.sqlite")
    compare(_study(tmp_path), store=store)
    study = _study(tmp_path, **changed)
    wanted = compare(study).figures
    replays.clear()
    assert compare(study, store=store).figures == wanted
    assert bool(replays) == is_replayed


def test_several_services_and_their_bills(tmp_path: Path, replays: list[str]) -> None:
    study = load_study(demo_in(tmp_path / "cabins", "cabins"))
    store = Store(tmp_path / "s.sqlite")
    first = compare(study, plans=["pooled"], store=store)
    replays.clear()
    dearer = study.plan("pooled").each(
        lambda _, part: part.replace(size=part.size.replace(per_hour=2 * (part.size.per_hour or 0)))
    )
    again = compare(study, plans=[dearer], store=store)
    assert not replays
    assert again.figures == compare(study, plans=[dearer]).figures
    assert again.figures[0].bill.month > first.figures[0].bill.month


def test_a_search_and_headroom_go_on_where_they_were(tmp_path: Path, replays: list[str]) -> None:
    study, store = _study(tmp_path, availability="99%"), Store(tmp_path / "s.sqlite")
    ranges = {"replicas": range(1, 8)}
    found = search(study, "one", store=store, **ranges)
    room = headroom(study, plans=["one"], store=store)
    assert replays
    replays.clear()
    assert search(study, "one", store=store, **ranges).to_dict() == found.to_dict()
    assert headroom(study, plans=["one"], store=store).to_dict() == room.to_dict()
    assert not replays
    assert search(study, "one", **ranges).to_dict() == found.to_dict()
    assert headroom(study, plans=["one"]).to_dict() == room.to_dict()


def test_another_seed_and_another_load_are_other_entries(tmp_path: Path) -> None:
    study, store = _study(tmp_path), Store(tmp_path / "s.sqlite")
    plan = study.plan("one").replace(balancer="random", replicas=3)
    wanted = [compare(study, plans=[plan], seed=seed).figures for seed in (0, 1)]
    assert wanted[0] != wanted[1]
    assert [compare(study, plans=[plan], seed=seed, store=store).figures for seed in (0, 1)] == wanted
    ranges: dict[str, Any] = {"replicas": [2, 3], "vary": {"trace.scale": [1, 0.5]}}
    assert search(study, "one", store=store, **ranges).to_dict() == search(study, "one", **ranges).to_dict()


def test_what_is_damaged_is_set_aside(tmp_path: Path) -> None:
    study, path = _study(tmp_path), tmp_path / "s.sqlite"
    wanted = compare(study).figures
    told: list[str] = []

    def again() -> None:
        told.clear()
        with Store(path, told.append) as store:
            assert compare(study, store=store).figures == wanted

    def harmed(statement: str) -> None:
        file = sqlite3.connect(path)
        file.execute(statement)
        file.commit()
        file.close()

    again()
    assert not told
    harmed("UPDATE entries SET body = zeroblob(length(body))")
    again()
    assert "an entry of this store is damaged" in told[0]
    for harm in (lambda raw: raw[:100] + b"\0" * (len(raw) - 100), lambda raw: raw[:4096]):
        path.write_bytes(harm(path.read_bytes()))
        again()
        assert any("this store is damaged; it is now s-damaged.sqlite" in sentence for sentence in told), told
    harmed("PRAGMA user_version = 99")
    again()
    assert "is of another version" in told[0]


def test_no_flipped_byte_gives_another_answer(tmp_path: Path) -> None:
    """In the text of the table, in the header, anywhere: it is set aside with a sentence, or does not matter."""
    study, path = _study(tmp_path), tmp_path / "s.sqlite"
    wanted = compare(study).figures
    with Store(path, pytest.fail) as store:
        compare(study, store=store)
    whole = path.read_bytes()
    table = whole.index(b"CREATE TABLE")
    places = [*range(table - 12, table + 140, 19), *range(16, 100, 12), *range(0, len(whole), len(whole) // 15)]
    for place in places:
        for bits in (0xFF, 0x80, 0x01):
            for ending in ("-wal", "-shm"):
                (tmp_path / f"s.sqlite{ending}").unlink(missing_ok=True)
            path.write_bytes(whole[:place] + bytes([whole[place] ^ bits]) + whole[place + 1 :])
            told: list[str] = []
            # A header may say that it is something else.
            with contextlib.suppress(*[OutputError] if place < 100 else []), Store(path, told.append) as store:
                assert compare(study, store=store).figures == wanted
            assert all(str(path) in sentence for sentence in told)


def test_entries_that_have_changed_places_are_not_used(tmp_path: Path) -> None:
    """Each is whole in itself; its checksum says whose it is."""
    study, path = _study(tmp_path), tmp_path / "s.sqlite"
    wanted = compare(study).figures
    with Store(path, pytest.fail) as store:
        compare(study, store=store)
    file = sqlite3.connect(path)
    (one, a), (other, b) = file.execute("SELECT key, body FROM entries").fetchall()
    for key, body in ((one, b), (other, a)):
        file.execute("UPDATE entries SET body = ? WHERE key = ?", (body, key))
    file.commit()
    file.close()
    told: list[str] = []
    with Store(path, told.append) as store:
        assert compare(study, store=store).figures == wanted
    assert len(told) == 2


def _deep(n: int = 100_000) -> str:
    return "[" * n + "]" * n


FOREIGN = [
    b"", b"no zlib", zlib.compress(b"{"), zlib.compress(b"\xff\xfe"), zlib.compress(_deep().encode()),
    zlib.compress(b"[]"), zlib.compress(b"3"), zlib.compress(b'{"figures": {}, "used": {}}'), zlib.compress(b"0" * 10**8),
    zlib.compress(b'{"figures": null}'), zlib.compress(b'{"figures": {"span_s": 1e400}}'),
]  # fmt: skip


@pytest.mark.parametrize("number", range(len(FOREIGN) + 3))
def test_a_foreign_body_with_a_right_checksum(tmp_path: Path, number: int) -> None:
    """Nothing that stands there ends in a traceback; it is thrown away with a sentence."""
    study, path = _study(tmp_path), tmp_path / "s.sqlite"
    wanted = compare(study).figures
    with Store(path, pytest.fail) as store:
        compare(study, store=store)
    file = sqlite3.connect(path)
    for key, packed in file.execute("SELECT key, body FROM entries").fetchall():
        document = json.loads(zlib.decompress(packed))
        if number < len(FOREIGN):
            body = FOREIGN[number]
        else:
            odd: Any = [0, None, {"a": [[]]}][number - len(FOREIGN)]
            document["figures"] = dict.fromkeys(document["figures"], odd)
            document["kept_replays"] = dict.fromkeys(document["kept_replays"], odd)
            body = zlib.compress(json.dumps(document).encode())
        file.execute("UPDATE entries SET body = ?, checksum = ? WHERE key = ?", (body, _checksum(key, body), key))
    file.commit()
    file.close()
    told: list[str] = []
    with Store(path, told.append) as store:
        assert compare(study, store=store).figures == wanted
    assert len(told) == 2
    assert all("thrown away and not used" in sentence for sentence in told)


def test_what_is_no_store_is_left_alone(tmp_path: Path) -> None:
    other = tmp_path / "other.db"
    with sqlite3.connect(other) as file:
        file.execute("CREATE TABLE mine (x)")
    file.close()
    before = other.read_bytes()
    for path, why in (
        (other, "something else"),
        (tmp_path / "study.toml", "the ending"),
        (tmp_path / "no" / "s.sqlite", "there is no directory"),
    ):
        with pytest.raises(OutputError, match=why):
            Store(path)
    text = tmp_path / "text.sqlite"
    text.write_text("not a store")
    with pytest.raises(OutputError, match="something else"):
        Store(text)
    assert other.read_bytes() == before
    assert text.read_text() == "not a store"
    store = Store(tmp_path / "s.sqlite", pytest.fail)
    store.close()
    store.put("key", {"a": 1})  # nobody minds
    assert store.get("key", lambda found: found) is MISSING


RANGES: dict[str, Any] = {"replicas": range(1, 8), "vary": {"service.slots": [1, 2, 3, 4]}}
SEARCH = """
import sys
from pathlib import Path
from libramen import Store, load_study, search
study = load_study(sys.argv[1])
found = search(study, "one", store=Store(sys.argv[2]), replicas=range(1, 8), vary={"service.slots": [1, 2, 3, 4]})
print(found.cheapest.plan, found.counts)
"""


def _search_and_keep(study: Study, path: Path, stop_at: int = 1000, pipe: int = -1) -> None:
    """After so many figures have been kept, say so and wait to be killed."""
    with Store(path) as store:
        put, kept = store.put, [0]

        def put_and_stop(key: str, document: Any) -> None:
            put(key, document)
            kept[0] += 1
            if kept[0] == stop_at:
                os.write(pipe, b".")
                signal.pause()

        store.put = put_and_stop  # type: ignore[method-assign]
        search(study, "one", store=store, **RANGES)


def test_a_search_that_is_killed_at_any_moment(tmp_path: Path) -> None:
    """Twenty times, halfway and at moments spread over a search; the store opens each time, and the answer stays."""
    study, path = _study(tmp_path, availability="90%"), tmp_path / "s.sqlite"
    study.trace()
    wanted = search(study, "one", **RANGES).to_dict()
    began = time.perf_counter()
    _search_and_keep(study, path)
    whole_s = time.perf_counter() - began
    rng = np.random.default_rng(11)
    for number in range(20):
        if number % 4 == 0:
            with Store(path) as store:
                store.clear()
        is_halfway = number % 8 == 0
        told, tell = os.pipe()
        stop_at = 1 + number // 8 if is_halfway else 1000
        process = multiprocessing.get_context("fork").Process(
            target=_search_and_keep, args=(study, path, stop_at, tell)
        )
        process.start()
        os.close(tell)
        if is_halfway:
            assert os.read(told, 1) == b"."
        else:
            time.sleep(whole_s * float(rng.uniform(0.05, 1.2)))
        process.kill()
        process.join()
        os.close(told)
        with Store(path, pytest.fail) as store:
            if is_halfway:
                assert store.size().entries == stop_at
            if number % 5 == 4:
                assert search(study, "one", store=store, **RANGES).to_dict() == wanted


def test_two_processes_at_a_time(tmp_path: Path) -> None:
    study, path = _study(tmp_path), tmp_path / "s.sqlite"
    del study
    command = [sys.executable, "-c", SEARCH, str(tmp_path / "study.toml"), str(path)]
    both = [subprocess.Popen(command, stdout=subprocess.PIPE, text=True) for _ in range(2)]
    said = {process.communicate()[0] for process in both}
    assert len(said) == 1
    assert all(process.returncode == 0 for process in both)


def test_the_commands(tmp_path: Path) -> None:
    _study(tmp_path)
    run = CliRunner().invoke
    study, store = str(tmp_path / "study.toml"), str(tmp_path / "s.sqlite")
    first = run(app, ["compare", study, "--json", "--store", store])
    assert json.loads(first.stdout) == json.loads(run(app, ["compare", study, "--json", "--no-store"]).stdout)
    assert "2 entries" in run(app, ["store", "--store", store]).stdout
    assert "2 entries thrown away" in run(app, ["store", "--store", store, "--clear"]).stdout
    both = run(app, ["compare", study, "--store", store, "--no-store"])
    assert "allowed: one of them" in str(both.exception)


def test_a_rule_of_the_users_own_is_not_kept(tmp_path: Path) -> None:
    study, store = _study(tmp_path), Store(tmp_path / "s.sqlite")
    plan = study.plan("scaled").replace(scaling={"rule": lambda seen: 2, "every": 10, "ceiling": 3})
    compare(study, plans=[plan], store=store)
    assert store.size().entries == 0
    assert pool.entries.key_of(make_case(study.services, plan, study.objectives), "t") is None


def test_one_that_nobody_closed_is_closed(tmp_path: Path) -> None:
    kept = Store(tmp_path / "kept.sqlite")
    connection = kept._connection
    assert connection is not None
    del kept
    gc.collect()
    with pytest.raises(sqlite3.ProgrammingError, match="closed"):
        connection.execute("SELECT 1")
