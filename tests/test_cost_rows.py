"""Rows of the open cost and usage specification: a validator written from its rules, sums, and files read back."""

from __future__ import annotations

import csv
import json
from datetime import UTC, datetime
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st
from pyarrow import parquet
from typer.testing import CliRunner

from builders import demo_in, make_plan, make_tier, make_trace
from libramen import OutputError, Service, load_study, replay
from libramen.bill.cost_rows import COLUMNS
from libramen.cli.app import app
from libramen.report.cost_file import write_costs
from priced import months, of_everything

if TYPE_CHECKING:
    from pathlib import Path

    from libramen import Outcome

Row = dict[str, Any]

REQUIRED = {
    "BilledCost", "BillingAccountId", "BillingCurrency", "BillingPeriodStart", "BillingPeriodEnd", "ChargeCategory",
    "ChargeFrequency", "ChargePeriodStart", "ChargePeriodEnd", "ContractedCost", "EffectiveCost", "InvoiceIssuerName",
    "ListCost", "ProviderName", "PublisherName", "ServiceCategory", "ServiceName",
}  # fmt: skip
OPTIONAL = {
    "AvailabilityZone", "BillingAccountName", "ChargeClass", "ChargeDescription", "CommitmentDiscountCategory",
    "CommitmentDiscountId", "CommitmentDiscountName", "CommitmentDiscountStatus", "CommitmentDiscountType",
    "ConsumedQuantity", "ConsumedUnit", "ContractedUnitPrice", "ListUnitPrice", "PricingCategory", "PricingQuantity",
    "PricingUnit", "RegionId", "RegionName", "ResourceId", "ResourceName", "ResourceType", "SkuId", "SkuPriceId",
    "SubAccountId", "SubAccountName", "Tags",
}  # fmt: skip
ALLOWED = {
    "ChargeCategory": {"Usage", "Purchase", "Tax", "Credit", "Adjustment"},
    "ChargeClass": {None, "Correction"},
    "ChargeFrequency": {"One-Time", "Recurring", "Usage-Based"},
    "CommitmentDiscountCategory": {None, "Usage", "Spend"},
    "CommitmentDiscountStatus": {None, "Used", "Unused"},
    "PricingCategory": {None, "Standard", "Dynamic", "Committed", "Other"},
    "ServiceCategory": {
        "AI and Machine Learning", "Analytics", "Business Applications", "Compute", "Databases", "Developer Tools",
        "Identity", "Integration", "Internet of Things", "Management and Governance", "Media", "Migration", "Mobile",
        "Multicloud", "Networking", "Security", "Storage", "Web", "Other",
    },
}  # fmt: skip
DECIMALS = {
    "BilledCost", "ConsumedQuantity", "ContractedCost", "ContractedUnitPrice", "EffectiveCost", "ListCost",
    "ListUnitPrice", "PricingQuantity",
}  # fmt: skip
TIMES = {"BillingPeriodStart", "BillingPeriodEnd", "ChargePeriodStart", "ChargePeriodEnd"}


def breaches(rows: list[Row]) -> list[str]:
    """What is against the rules of the specification, a sentence each."""
    return [f"row {number}: {said}" for number, row in enumerate(rows) for said in _breaches(row)]


def _breaches(row: Row) -> list[str]:
    found = [f"no column {name}" for name in REQUIRED | OPTIONAL if name not in row]
    found += [f"column {name} is of nobody" for name in row if name not in REQUIRED | OPTIONAL and name[:2] != "x_"]
    if found:
        return found
    found += [f"{name} is null" for name in REQUIRED if row[name] is None or row[name] == ""]
    found += [f"{name} is {row[name]!r}" for name, allowed in ALLOWED.items() if row[name] not in allowed]
    for name, value in row.items():
        if value is None:
            continue
        if name in DECIMALS and not (isinstance(value, Decimal) and value.is_finite()):
            found.append(f"{name} is no decimal")
        if name in TIMES and not (isinstance(value, datetime) and value.tzinfo is UTC):
            found.append(f"{name} is no time in UTC")
    if found:
        return found
    kind, commitment = row["ChargeCategory"], row["CommitmentDiscountId"]
    status, quantity = row["CommitmentDiscountStatus"], row["PricingQuantity"]
    if not row["BillingPeriodStart"] <= row["ChargePeriodStart"] < row["ChargePeriodEnd"] <= row["BillingPeriodEnd"]:
        found.append("the charge is not inside the billing period")
    if (row["BillingPeriodStart"].day, row["BillingPeriodEnd"].day) != (1, 1):
        found.append("the billing period is no month")
    if len(row["BillingCurrency"]) != 3 or not row["BillingCurrency"].isupper():
        found.append("the currency is not that of ISO 4217")
    if kind == "Purchase" and row["ChargeFrequency"] == "Usage-Based":
        found.append("a purchase is usage-based")
    for name in ("PricingQuantity", "PricingUnit", "SkuId", "SkuPriceId"):
        if kind in {"Usage", "Purchase"} and row[name] is None:
            found.append(f"{name} is null in a row of {kind}")
        if kind == "Tax" and row[name] is not None:
            found.append(f"{name} is there in a row of tax")
    if kind == "Tax" and row["PricingCategory"] is not None:
        found.append("PricingCategory is there in a row of tax")
    if kind != "Tax" and row["PricingCategory"] is None:
        found.append("PricingCategory is null")
    for name in ("ConsumedQuantity", "ConsumedUnit"):
        if row[name] is not None and (kind != "Usage" or status == "Unused"):
            found.append(f"{name} is there where nothing is consumed")
    if (row["ConsumedQuantity"] is None) != (row["ConsumedUnit"] is None):
        found.append("ConsumedQuantity without its unit")
    if status is not None and kind != "Usage":
        found.append("CommitmentDiscountStatus is there in no row of usage")
    for name in ("CommitmentDiscountCategory", "CommitmentDiscountType"):
        if (commitment is None) != (row[name] is None):
            found.append(f"{name} and CommitmentDiscountId do not go together")
    if commitment is not None and kind == "Usage" and status is None:
        found.append("CommitmentDiscountStatus is null")
    if commitment is not None and kind == "Usage" and row["PricingCategory"] != "Committed":
        found.append("PricingCategory is not Committed")
    if kind == "Purchase" and commitment is not None and row["EffectiveCost"] != 0:
        found.append("EffectiveCost of a purchase that is spread over usage is not 0")
    for price, cost in (("ListUnitPrice", "ListCost"), ("ContractedUnitPrice", "ContractedCost")):
        if row[price] is not None and quantity is not None and abs(row[price] * quantity - row[cost]) > Decimal("1e-9"):
            found.append(f"{price} x PricingQuantity is not {cost}")
    if row["Tags"] is not None and not isinstance(json.loads(row["Tags"]), dict):
        found.append("Tags are no JSON object")
    return found


def _adds_up(outcome: Outcome, rows: list[Row]) -> None:
    """Rows to the bill, to each of its lines, and to what is each service's; commitments spread to what they cost."""
    bill = outcome.bill
    assert sum(row["BilledCost"] for row in rows) == bill.month
    assert sum(row["EffectiveCost"] for row in rows) == bill.month
    billed = pd.DataFrame(rows).groupby("x_Line")["BilledCost"].sum()
    lines = (
        pd.DataFrame([{"item": line.item, "amount": line.amount} for line in bill.lines])
        .groupby("item")["amount"]
        .sum()
    )
    assert {item: amount for item, amount in billed.items() if amount} == {
        item: amount for item, amount in lines.items() if amount
    }
    by_service = pd.DataFrame(rows).groupby("SubAccountName")["BilledCost"].sum()
    for name, one in outcome.services.items():
        # A line is divided by all at once, so a cent may lie on the other side.
        assert abs(by_service.get(name, Decimal(0)) - one.bill.month) <= Decimal("0.01") * len(bill.lines)


@settings(max_examples=max(10, settings().max_examples // 4))
@given(st.tuples(*months))
def test_rows_of_random_months_are_valid_and_add_up(month: tuple[Any, ...]) -> None:
    outcome = of_everything(*month, start="2031-06-05T00:00:00", time_zone="Europe/Lisbon")
    rows = outcome.cost_rows("ferries")
    assert breaches(rows) == []
    _adds_up(outcome, rows)
    # Events or not, a day stands 730 / 24 times in a month.
    assert {row["x_Weight"] for row in rows} <= {Decimal("30.416666667"), None}


@pytest.mark.parametrize(
    ("demo", "plan"), [("landing", "drift"), pytest.param("cabins", "failover", marks=pytest.mark.thorough)]
)
def test_rows_of_the_demos(tmp_path: Path, demo: str, plan: str) -> None:
    """Valid, adding up to the bill; read back from both files with pandas, and summed by service, zone and line."""
    study = load_study(demo_in(tmp_path / demo, demo))
    outcome = study.replay(plan)
    rows = outcome.cost_rows(study.name)
    assert breaches(rows) == []
    _adds_up(outcome, rows)
    read = CliRunner().invoke(
        app, ["replay", str(study.path), "--plan", plan, "--costs", str(tmp_path / "c.csv"), "--month", "2031-02"]
    )
    assert read.exit_code == 0, read.output
    write_costs(tmp_path / "c.parquet", outcome.cost_rows(study.name, "2031-02"))
    texts = pd.read_csv(tmp_path / "c.csv", dtype=str, keep_default_na=False)
    frame = pd.read_parquet(tmp_path / "c.parquet")
    assert [*texts] == [*frame] == [column.name for column in COLUMNS]
    assert set(texts["BillingPeriodEnd"]) == {"2031-03-01T00:00:00Z"}
    assert {f"{when:%Y-%m-%d %H:%M %Z}" for when in frame["BillingPeriodStart"]} == {"2031-02-01 00:00 UTC"}
    for by in ("SubAccountName", "AvailabilityZone", "x_Line"):
        mine = pd.DataFrame({by: [row[by] or "" for row in rows], "cost": [row["BilledCost"] for row in rows]})
        wanted = mine.groupby(by)["cost"].sum().to_dict()
        of_text = texts.assign(cost=texts["BilledCost"].map(Decimal)).groupby(by)["cost"].sum().to_dict()
        of_table = frame.assign(**{by: frame[by].fillna("")}).groupby(by)["BilledCost"].sum().to_dict()
        assert of_text == of_table == wanted
    schema = parquet.read_schema(tmp_path / "c.parquet")
    assert {name for name in schema.names if not schema.field(name).nullable} == REQUIRED | {"x_Line"}


def test_days_zones_and_commitments_by_hand() -> None:
    """Two replicas in two zones for a day, three committed at 0.75: 3 x 730 x 0.75 are billed, two thirds are used.

    Of each of the 730 hours of three committed replicas the third is nobody's: 730 unused, 730 used in each zone.
    """
    plan = make_plan(make_tier(zones=["east", "west"]), replicas=2, committed=[{"replicas": 3, "off": "25%"}], name="p")
    trace = make_trace([0], wait=1, span_s=86400, start="2031-06-05T00:00:00")
    rows = replay(trace, Service(slots=5), plan).cost_rows("ferries")
    bought = [row for row in rows if row["ChargeCategory"] == "Purchase"]
    assert [(row["BilledCost"], row["EffectiveCost"], row["PricingQuantity"]) for row in bought] == [
        (Decimal("1642.50"), Decimal("0.00"), Decimal(2190))
    ]
    used = {
        (row["AvailabilityZone"], row["CommitmentDiscountStatus"]): (row["EffectiveCost"], row["ConsumedQuantity"])
        for row in rows
        if row["CommitmentDiscountStatus"] is not None
    }
    assert used == {
        ("east", "Used"): (Decimal("547.50"), Decimal(730)),
        ("west", "Used"): (Decimal("547.50"), Decimal(730)),
        (None, "Unused"): (Decimal("547.50"), None),
    }
    listed = {row["AvailabilityZone"]: row["ListCost"] for row in rows if row["CommitmentDiscountStatus"] == "Used"}
    assert listed == {"east": Decimal(730), "west": Decimal(730)}  # at 1 an hour
    assert breaches(rows) == []
    assert {row["x_TraceDay"] for row in rows} == {"2031-06-05", None}
    assert {row["x_Weight"] for row in rows} == {Decimal("30.416666667"), None}


def test_what_is_paid_while_nothing_is_there_is_of_no_zone() -> None:
    """A replica by the month that is there for half of the day: half of its price is of its zone."""
    plan = make_plan(
        make_tier(billing="per_month", sizes={"s": {"cores": 1, "per_month": 30}}), replicas=[["0s", 1], ["12h", 0]]
    )
    trace = make_trace([0], wait=1, span_s=86400, start="2031-06-05T00:00:00")
    rows = replay(trace, Service(slots=5), plan).cost_rows("ferries")
    assert {row["AvailabilityZone"]: row["BilledCost"] for row in rows} == {"one": Decimal(15), None: Decimal(15)}


def test_a_validator_can_find_fault() -> None:
    """Each rule is broken once."""
    plan = make_plan(make_tier(), committed=[{"replicas": 1, "off": "25%"}])
    rows = replay(make_trace([0], wait=1, span_s=3600, start="2031-06-05"), Service(slots=5), plan).cost_rows("ferries")
    assert breaches(rows) == []
    broken: list[Row] = [
        {"BilledCost": None}, {"ChargeCategory": "Fee"}, {"ServiceCategory": "Ferry"}, {"BillingCurrency": "euro"},
        {"ListUnitPrice": Decimal(7)}, {"PricingQuantity": None}, {"SkuId": None}, {"ConsumedUnit": None},
        {"ChargePeriodEnd": datetime(2031, 8, 1, tzinfo=UTC)}, {"CommitmentDiscountStatus": "Spent"},
        {"PricingCategory": "Dear"}, {"ListCost": 3.0}, {"BillingPeriodStart": "2031-06-01"}, {"Extra": 1},
    ]  # fmt: skip
    usage = next(row for row in rows if row["CommitmentDiscountStatus"] == "Used")
    for change in broken:
        assert breaches([usage | change]), change
    bought = next(row for row in rows if row["ChargeCategory"] == "Purchase")
    for change in ({"ChargeFrequency": "Usage-Based"}, {"EffectiveCost": Decimal(1)}, {"ConsumedQuantity": Decimal(1)}):
        assert breaches([bought | change]), change


def test_texts_that_a_spreadsheet_would_run(tmp_path: Path) -> None:
    plan = make_plan(make_tier(fees=[{"name": "=HYPERLINK(1)", "per_month": 2}]), name="@plan")
    trace = make_trace([0], wait=1, span_s=3600, start="2031-06-05")
    write_costs(tmp_path / "c.csv", replay(trace, Service(slots=5), plan).cost_rows("-1+1"))
    with (tmp_path / "c.csv").open(newline="") as file:
        for row in csv.DictReader(file):
            for name, text in row.items():
                assert not text.startswith(("=", "+", "@", "\t", "\r")), name
                assert not text.startswith("-") or name in DECIMALS


@pytest.mark.parametrize(
    ("month", "dated", "sentence"),
    [
        ("2031-13", True, "--month: found '2031-13'; allowed: a month such as 2031-06"),
        ("June", True, "--month: found 'June'"),
        (None, False, "this trace does not say when it starts; allowed: --month"),
    ],
)
def test_months_that_are_none(month: str | None, sentence: str, *, dated: bool) -> None:
    trace = make_trace([0], wait=1, span_s=3600, **({"start": "2031-06-05"} if dated else {}))
    outcome = replay(trace, Service(slots=5), make_plan())
    with pytest.raises(OutputError, match=sentence):
        outcome.cost_rows("ferries", month)
    if not dated:
        assert outcome.cost_rows("ferries", "2031-06")[0]["x_TraceDay"] is None


def test_a_month_of_nothing(demo_study: Path) -> None:
    run = CliRunner().invoke(app, ["replay", str(demo_study), "--plan", "steady", "--month", "2031-06"])
    assert "--month says which month --costs is of" in str(run.exception)
