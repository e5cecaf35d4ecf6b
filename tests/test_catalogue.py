"""Catalogues: what sizes cost before anything is replayed, against bills by hand, and tables of sizes."""

from __future__ import annotations

import json
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import pandas as pd
import pytest
from typer.testing import CliRunner

from builders import make_plan, make_tier, make_trace
from libramen import Service, StudyError, Terms, Tier, load_study, price_list, read_catalogue, replay
from libramen.cli.app import app
from libramen.study.written import tiers_toml

if TYPE_CHECKING:
    from pathlib import Path

    from libramen import PricedSize


def _only(tier: Tier, **how: Any) -> PricedSize:
    (size,) = price_list({tier.name: tier}, **how).sizes
    return size


def test_a_fleet_by_hand() -> None:
    """Two replicas at 0.02 for 730 h, a balancer at 0.01: 29.20 + 7.30; full, 2 cores at 0.1 s a request.

    52,560,000 requests of 10 kB: 525.6 GB, of which 25.6 are free and 500 cost 0.05: 25; half 262.8 GB: 11.86.
    """
    tier = make_tier(
        billing="per_hour", replicas={"least": 2}, balancer_per_hour="0.01", egress_per_gb="0.05",
        free={"egress_gb": 25.6}, sizes={"s": {"cores": 1, "per_hour": "0.02"}},
    )  # fmt: skip
    size = _only(tier, cpu="100ms")
    assert (size.replicas, size.requests) == (2, 52_560_000)
    assert (size.idle, size.half, size.full) == (Decimal("36.50"), Decimal("48.36"), Decimal("61.50"))
    assert size.per_core_month == pytest.approx(61.50 / 2)
    assert size.per_million == pytest.approx(61.50 / 52.56)


def test_use_by_hand() -> None:
    """A core for 730 h is 2,628,000 core-s at 0.00001, 26.28; 26.28 million requests of 0.1 s at 0.5 beyond one free.

    12.64 and a month costs 5 at the least: 5, 13.14 + 6.07, 26.28 + 12.64.
    """
    tier = make_tier(
        billing="per_request", per_core_second="0.00001", per_million_requests="0.5", least_per_month=5,
        free={"requests": 1_000_000}, sizes={"s": {"cores": 1}},
    )  # fmt: skip
    size = _only(tier, cpu=0.1, bytes_out=0)
    assert (size.idle, size.half, size.full) == (Decimal(5), Decimal("19.21"), Decimal("38.92"))


def test_what_scales_to_zero_has_no_zone_while_idle() -> None:
    """Half of 730 h at 0.01 in a zone, and nothing while nothing is asked; with a replica all the time all hours."""
    sold = {
        "billing": "per_request",
        "per_core_second": "0.00001",
        "zone_per_hour": "0.01",
        "sizes": {"s": {"cores": 1}},
    }
    size = _only(make_tier(replicas={"least": 0}, **sold), bytes_out=0)
    assert (size.idle, size.half, size.full) == (
        Decimal(0),
        Decimal("3.65") + Decimal("13.14"),
        Decimal("7.30") + Decimal("26.28"),
    )
    assert _only(make_tier(replicas={"least": 1}, **sold), bytes_out=0).idle == Decimal("7.30")


def test_lent_reserved_and_fast_cores() -> None:
    """Of two cores that are lent a tenth may be used for ever; a fifth of a core is the platform's; speed counts."""
    lent = make_tier(sizes={"s": {"cores": 2, "per_hour": 1, "steady_cores": 0.5, "bank": 100, "reserved_cores": 0.2}})
    assert _only(lent, cpu=1).requests == pytest.approx(0.3 * 730 * 3600)
    assert _only(lent, cpu=1).per_core_month == pytest.approx(730 / 0.3)
    fast = make_tier(sizes={"s": {"cores": 2, "speed": 1.5, "per_hour": 1}})
    assert _only(fast, cpu=1).requests == pytest.approx(3 * 730 * 3600)


def test_it_is_the_bill_of_a_replay() -> None:
    """A replica that is half busy for a month, replayed: the same lines."""
    tier = make_tier(
        billing="per_second",
        zone_per_hour="0.02",
        egress_per_gb="0.05",
        fees=[{"name": "x", "per_million_requests": 3}],
    )
    trace = make_trace([k * 36 for k in range(1000)], cpu=18, bytes_out=[10_000.0] * 1000, span_s=36000)
    outcome = replay(trace, Service(slots=2), make_plan(tier), terms=Terms(tax="10%"))
    listed = _only(tier, cpu=18, terms=Terms(tax="10%"))
    assert outcome.bill.month == listed.half
    assert listed.idle < listed.half < listed.full


def test_the_command(demo_study: Path, tmp_path: Path) -> None:
    run = CliRunner().invoke
    shown = run(app, ["tiers"])
    assert "10 tiers, 19 sizes" in shown.stdout
    assert "locker: a managed database" in shown.stdout
    catalogue = demo_study.parent / "tiers.toml"
    document = json.loads(run(app, ["tiers", str(catalogue), "--json", "--csv", str(tmp_path / "t.csv")]).stdout)
    frame = pd.read_csv(tmp_path / "t.csv")
    assert [row["full"] for row in document["sizes"]] == frame["full [EUR/month]"].tolist()
    assert "Saltmarsh Ferries" in run(app, ["tiers", str(demo_study)]).stdout
    taxed = load_study(demo_study).terms.replace(tax="50%")
    plain, dear = (price_list(load_study(demo_study).tiers, terms=terms).sizes for terms in (None, taxed))
    assert [float(one.full) * 1.5 for one in plain] == pytest.approx([float(one.full) for one in dear], abs=0.02)
    checked = run(app, ["check", str(catalogue)])
    assert checked.exit_code == 0
    assert "19 sizes" in checked.stdout


def test_a_catalogue_alone_is_checked(tmp_path: Path) -> None:
    """Mistakes are told with file and place, and what can hardly be meant is asked about; it is no study."""
    file = tmp_path / "c.toml"
    run = CliRunner().invoke
    file.write_text('[tiers.t]\nbilling = "per_hour"\nprovision = 90000\n[tiers.t.sizes.s]\ncores = 1\nper_hour = 1\n')
    assert "provision is 1 d 1 h; usual is at most 2 h" in run(app, ["check", str(file)]).stdout
    refused = run(app, ["compare", str(file)])
    assert "this is a catalogue, with tiers alone" in str(refused.exception)
    file.write_text('[tiers.t]\nbilling = "per_hour"\n[tiers.t.sizes.s]\ncores = 1\nper_houre = 1\n')
    assert "c.toml: [tiers.t.sizes.s] unknown key 'per_houre'; did you mean 'per_hour'?" in str(
        run(app, ["check", str(file)]).exception
    )


def test_a_table_of_sizes(tmp_path: Path) -> None:
    """With its own names and units, and with a study that takes its tiers from it."""
    file = tmp_path / "sizes.csv"
    file.write_text(
        "Kind;Name;vCPU;RAM [GiB];Price;Start [s];Place\na;a1;1;2;0.031;40;x\na;a2;2;4;0.062;40;y\nb;a1;1;0.5;0.02;9;x\n"
    )
    columns = {
        "tier": "Kind",
        "size": "Name",
        "cores": "vCPU",
        "memory": "RAM [GiB]",
        "per_hour": "Price",
        "provision": "Start [s]",
    }
    found = read_catalogue(file, columns)
    assert list(found.tiers) == ["a", "b"]
    assert found.tiers["a"].sizes["a2"].memory == 4 * 2**30
    assert found.tiers["b"].sizes["a1"].memory == 2**29
    assert found.tiers["a"].provision.median_s == 40
    assert found.tiers["a"].billing == "per_hour"
    assert found.notes == (
        "columns that are not looked at: Place",
        "billing: by started hours, since there is no column billing",
    )
    run = CliRunner().invoke
    named = [part for key, name in columns.items() for part in ("--column", f"{key}={name}")]
    shown = run(app, ["tiers", str(file), *named, "--save", str(tmp_path / "saved.toml")])
    assert "2 tiers, 3 sizes" in shown.stdout, shown.output
    assert read_catalogue(tmp_path / "saved.toml").tiers == found.tiers
    said = ", ".join(f'{key} = "{name}"' for key, name in columns.items())
    (tmp_path / "t.csv").write_text("at_s,cpu_s\n1,0.1\n")
    study = tmp_path / "study.toml"
    study.write_text(
        f'[study]\ncatalogue = "sizes.csv"\ncatalogue_columns = {{ {said} }}\n[trace]\nfiles = "t.csv"\n'
        '[service]\nslots = 1\n[plans.p]\ntier = "b"\nsize = "a1"\n'
    )
    assert load_study(study).plans["p"].only.size == found.tiers["b"].sizes["a1"]
    study.write_text(study.read_text().replace('catalogue = "sizes.csv"\n', ""))
    with pytest.raises(StudyError, match="catalogue_columns needs catalogue, which is missing"):
        load_study(study)


def test_what_a_table_says_itself(tmp_path: Path) -> None:
    file = tmp_path / "quay.csv"
    file.write_text("size,cores,per_month,autoscaling,memory\ns,1,9,no,\nm,2,16,no,2 GB\n")
    found = read_catalogue(file)
    assert list(found.tiers) == ["quay"]
    assert found.tiers["quay"].billing == "per_month"
    assert not found.tiers["quay"].autoscaling
    assert found.tiers["quay"].sizes["s"].memory is None
    file.write_text("cores,per_core_second\n1,0.00002\n")
    assert read_catalogue(file).tiers["quay"].billing == "per_request"
    assert list(read_catalogue(file).tiers["quay"].sizes) == ["row-2"]


@pytest.mark.parametrize(
    ("text", "columns", "sentence"),
    [
        ("", {}, r"c.csv:1: there is no column cores, but none; allowed: names such as tier, size, cores"),
        ("size,vCPU\ns,1\n", {}, r"there is no column cores, but size, vCPU.*--column cores=NAME"),
        ("size,cores\n", {}, r"c.csv: there is no size; allowed: a row for each"),
        ("size,cores\ns,1\n", {}, r"tier 'c' has no price; allowed: a column per_hour, per_month"),
        ("size,cores,per_hour\ns,one,1\n", {}, r"c.csv: \[tiers.c.sizes.s\] cores: found 'one'; allowed: a number"),
        (
            "size,cores,per_hour\ns,1,1\ns,2,2\n",
            {},
            r"c.csv:3: tier 'c' has a size 's' already; allowed: each name once",
        ),
        (
            "size,cores,per_hour,memory\ns,1,1,8\n",
            {},
            r"c.csv:2 memory: found '8', which is 8 bytes; allowed: a size such as 8 GB",
        ),
        ("size,cores,per_hour,memory\ns,1,1,lots\n", {}, r"c.csv:2 memory: found 'lots'"),
        (
            "size,cores,per_hour,autoscaling\ns,1,1,maybe\n",
            {},
            r"c.csv:2 autoscaling: found 'maybe'; allowed: true or false",
        ),
        (
            "size,cores,per_hour,billing\ns,1,1,per_hour\nm,1,1,per_second\n",
            {},
            r"c.csv:3 billing: found 'per_second', and 'per_hour' above",
        ),
        ("size,cores,cores\ns,1,1\n", {}, r"c.csv:1: the column cores stands there twice"),
        ("a,b\n1,2\n", {"cores": "c"}, r"c.csv:1: there is no column 'c'"),
        ("a,b\n1,2\n", {"core": "a"}, r"c.csv: columns: unknown key 'core'; did you mean 'cores'\?"),
    ],
)
def test_tables_that_are_none(tmp_path: Path, text: str, columns: dict[str, str], sentence: str) -> None:
    (tmp_path / "c.csv").write_text(text)
    with pytest.raises(StudyError, match=sentence):
        read_catalogue(tmp_path / "c.csv", columns)


@pytest.mark.parametrize(
    ("arguments", "sentence"),
    [
        (["none.csv"], "none.csv: there is no such file"),
        (["--column", "cores"], "--column: found 'cores'; allowed: KEY=NAME"),
        (["--column", "cores=x"], "columns are of a table; allowed: a file .csv"),
        (["--cpu", "fast"], "--cpu: found 'fast'; allowed: a duration"),
        (["--cpu", "0s"], "found 0.0 of CPU work; allowed: above 0"),
    ],
)
def test_what_cannot_be_asked(arguments: list[str], sentence: str) -> None:
    assert sentence in str(CliRunner().invoke(app, ["tiers", *arguments]).exception)


def test_tiers_are_written_as_they_were(demo_study: Path, tmp_path: Path) -> None:
    tiers = read_catalogue(demo_study.parent / "tiers.toml").tiers
    (tmp_path / "again.toml").write_text(tiers_toml(tiers))
    assert read_catalogue(tmp_path / "again.toml").tiers == tiers
