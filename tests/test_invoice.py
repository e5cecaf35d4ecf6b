"""An invoice beside the bill of the recorded plan."""

from __future__ import annotations

from decimal import Decimal
from typing import TYPE_CHECKING

import pandas as pd
import pytest
from typer.testing import CliRunner

from libramen import StudyError, load_study
from libramen.bill.bill import Bill
from libramen.cli.app import app
from libramen.prices.lines import line_of
from libramen.report.backtest import invoice_section
from libramen.trust.invoice import beside, read_invoice

if TYPE_CHECKING:
    from pathlib import Path


def _bill(**amounts: str) -> Bill:
    lines = tuple(
        line_of(item.replace("_", " "), 1, "month", Decimal(amount))  # type: ignore[arg-type]
        for item, amount in amounts.items()
    )
    return Bill("EUR", lines, "", "")


def _invoice(path: Path, text: str) -> Path:
    path.write_bytes(text.encode())
    return path


def test_lines_that_are_called_alike_are_one(tmp_path: Path) -> None:
    """Whatever the order of words, quantities and typing; and each is of one."""
    bill = _bill(replicas_of_size_small="50", replicas_of_size_large="80", balancer="12.41", egress_beyond_50_GB="4")
    file = _invoice(
        tmp_path / "i.csv",
        'item,amount,note\nLarge replicas,"1,080.00",x\nLoad balancer,12.41,\nEgres traffic,4.5,\nReplicas (small),50,\nSupport,9.9,\n',
    )
    found = beside(file, bill, ["service"])
    pairs = {line.item: (line.invoiced_as, line.difference) for line in found.lines}
    assert pairs == {
        "replicas of size small": ("Replicas (small)", 0),
        "replicas of size large": ("Large replicas", Decimal(1000)),
        "balancer": ("Load balancer", 0),
        "egress beyond 50 GB": ("Egres traffic", Decimal("0.5")),
        None: ("Support", Decimal("9.9")),
    }
    assert (found.billed, found.invoiced) == (Decimal("146.41"), Decimal("1156.81"))


def test_a_line_of_an_invoice_is_compared_once(tmp_path: Path) -> None:
    """With the line that is most alike; the other has none."""
    bill = _bill(replicas_of_size_small="50", replicas_of_size_small_beyond_2_committed="20")
    found = beside(_invoice(tmp_path / "i.csv", "item,amount\nsmall replicas,50\n"), bill, ["service"])
    assert [line.invoiced_as for line in found.lines] == ["small replicas", None]
    assert found.invoiced == Decimal(50)


def test_what_is_another_thing_is_not_compared(tmp_path: Path) -> None:
    file = _invoice(
        tmp_path / "i.csv", "\ufeffItem;Amount\nreplicas of size large;10\nreplicas of size large;5\ncredit;-3.20\n"
    )
    found = beside(file, _bill(replicas_of_size_small="50"), ["service"])
    assert [(line.item, line.invoiced_as, line.invoiced) for line in found.lines] == [
        ("replicas of size small", None, 0),
        (None, "replicas of size large", 15),
        (None, "credit", Decimal("-3.20")),
    ]


def test_the_command(hour_study: Path, tmp_path: Path) -> None:
    """Of the recorded plan, with the month and the prices of the study."""
    bill = load_study(hour_study).replay("today").bill
    text = "item,amount\n" + "".join(f'"{line.item}",{line.amount}\n' for line in bill.lines)
    more = _invoice(tmp_path / "more.csv", text + "support,20\n")
    run = CliRunner().invoke
    shown = run(app, ["backtest", str(hour_study), "--invoice", str(more), "--csv", str(tmp_path / "b.csv")])
    assert "The invoice is 20.00 EUR more than the bill (+12.0 %)." in shown.stdout, shown.output
    assert "Only on the invoice, so perhaps not in the study: support." in shown.stdout
    table = pd.read_csv(tmp_path / "b.invoice.csv")
    assert table["billed [EUR/month]"].sum() == pytest.approx(float(bill.month))
    hours = pd.read_csv(tmp_path / "b.csv")  # all of them, not the worst alone
    assert {"p95_logged [s]", "p95_replayed [s]"} <= set(hours)
    assert sum(scope.startswith("hour ") for scope in hours["scope"]) == 2


def test_one_that_agrees(tmp_path: Path) -> None:
    found = beside(_invoice(tmp_path / "i.csv", "item,amount\nBalancer,12.41\n"), _bill(balancer="12.41"), ["service"])
    assert invoice_section("today", found).sentences == ("They agree in every line, to the cent.",)
    assert found.to_dict()["lines"] == [
        {"item": "balancer", "invoiced_as": "Balancer", "billed": 12.41, "invoiced": 12.41}
    ]


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("name,amount\na,1\n", r"i.csv:1: found the columns name, amount; allowed: item and amount, once each"),
        ("item,amount,item\na,1,b\n", r"i.csv:1: found the columns item, amount, item"),
        ("", r"i.csv:1: found the columns none"),
        ("item,amount\n", r"i.csv: there is no item; allowed: one or more"),
        ("item,amount\na,12 EUR\n", r"i.csv:2 amount: found '12 EUR'; allowed: a number such as 1204.50"),
        ("item,amount\na,1\n\nb,nan\n", r"i.csv:4 amount: found 'nan'"),
        ('item,amount\na,"1,20"\n', r"i.csv:2 amount: found '1,20'"),
        ("item,amount\na\n", r"i.csv:2: found no item with an amount"),
        ("item,amount\n ,3\n", r"i.csv:2: found no item with an amount"),
    ],
)
def test_invoices_that_are_none(tmp_path: Path, text: str, sentence: str) -> None:
    with pytest.raises(StudyError, match=sentence):
        read_invoice(_invoice(tmp_path / "i.csv", text))


def test_an_invoice_that_cannot_be_read(tmp_path: Path, demo_study: Path) -> None:
    """Said before any time is spent."""
    (tmp_path / "i.csv").write_bytes(b"\xff\xfe")
    with pytest.raises(StudyError, match="byte 0 is not UTF-8"):
        read_invoice(tmp_path / "i.csv")
    run = CliRunner().invoke(app, ["backtest", str(demo_study), "--invoice", str(tmp_path / "none.csv")])
    assert "none.csv: there is no such file" in str(run.exception)
