"""The page that is handed over: what stands in it and where, that names are texts, and what a browser says of it."""

from __future__ import annotations

import base64
import hashlib
import json
import os
import re
import shutil
from html.parser import HTMLParser
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
import pytest
from typer.testing import CliRunner

from builders import demo_in, make_plan, make_trace, write_study
from libramen import Objectives, OutputError, Service, dossier, load_study, replay
from libramen.cli.app import app
from libramen.draw.live.over_time import _merged
from libramen.draw.live.spec import Live, numbers, text
from libramen.outcome.windows import worst_stretch
from libramen.report.page import drawing_script

if TYPE_CHECKING:
    from collections.abc import Iterator

    from libramen import Study


TRICKS = [
    "<script>alert(1)</script>", "<img src=x onerror=alert(1)>", "javascript:alert(1)", '"><svg/onload=alert(1)>',
    "{{ 7*7 }}", "a\u202eb", "x" * 300, "&lt;b&gt;", "'onclick='x",
]  # fmt: skip


class _Read(HTMLParser):
    """Tags with their attributes, texts, and the texts of scripts."""

    def __init__(self, page: str) -> None:
        super().__init__(convert_charrefs=True)
        self.tags: list[tuple[str, dict[str, str | None]]] = []
        self.texts: list[str] = []
        self.in_script: list[str] = []
        self.in_style: list[str] = []
        self.in_json: list[str] = []
        self.feed(page)
        self.close()

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append((tag, dict(attrs)))

    def handle_data(self, data: str) -> None:
        kind, attributes = self.tags[-1] if self.tags else ("", {})
        kind = "json" if attributes.get("type") == "application/json" else kind
        {"script": self.in_script, "style": self.in_style, "json": self.in_json}.get(kind, self.texts).append(data)

    def handle_endtag(self, tag: str) -> None:
        if tag in {"script", "style"}:
            self.tags.append(("", {}))  # what follows is not in it


def _tricky(folder: Path, n_routes: int = 40) -> Study:
    rng = np.random.default_rng(2)
    n = max(400, n_routes)
    columns = {"at_s": np.cumsum(rng.exponential(0.5, n)), "cpu_s": rng.exponential(0.2, n)}
    tiers = {
        name: {"billing": "per_hour", "sizes": {"small": {"cores": 1, "per_hour": 0.02}}} for name in (TRICKS[0], "t")
    }
    plans = {
        TRICKS[1]: {"tier": TRICKS[0]},
        TRICKS[6]: {"tier": "t", "replicas": 2},
        "{{ plan }}": {"tier": "t", "replicas": 3},
    }
    file = write_study(
        folder, columns, tiers, plans, study={"name": TRICKS[3], "fees": [{"name": TRICKS[4], "per_month": 2}]},
        service={"slots": 4, "timeout": "9s"}, objectives={"p95": "2s", "availability": "99%"},
    )  # fmt: skip
    lines = (folder / "t.csv").read_text().splitlines()
    names = [*TRICKS, *(f"/route/{k}" for k in range(n_routes))]
    quoted = [names[k % len(names)].replace('"', '""') for k in range(n)]
    rows = [f'{line},"{name}"' for line, name in zip(lines[1:], quoted, strict=True)]
    (folder / "t.csv").write_text("\n".join([lines[0] + ",route", *rows]) + "\n", encoding="utf-8")
    return load_study(file)


@pytest.fixture(scope="module")
def landing(tmp_path_factory: pytest.TempPathFactory) -> tuple[Study, str]:
    """The landing, and its page."""
    study = load_study(demo_in(tmp_path_factory.mktemp("page") / "landing", "landing"))
    return study, dossier(study, plans=["noon", "bold"]).to_html()


def test_what_stands_where(landing: tuple[Study, str]) -> None:
    """In the order of a reader who has a minute, and then ten; what is not known is said, with the way to it."""
    study, page = landing
    read = _Read(page)
    headings = re.findall(r"<h2[^>]*>([^<]*)", page)
    wanted = [
        "The plans side by side", "noon over time", "Next best: bold over time", "What each release and fault costs",
        "Where the time goes", "What a month costs, and where the money goes", "What is not here",
        "Objectives of noon", "The study",
    ]  # fmt: skip
    assert [heading for heading in headings if heading in wanted] == wanted
    assert "libramen report --full" in page
    verdict = study.compare(plans=["noon", "bold"]).verdict()
    texts = " ".join(read.texts)
    assert texts.index(verdict) < texts.index("Load") < texts.index("The plans side by side")
    assert "140.16" in texts
    assert 'balancer = "least_busy"' in texts or "[plans.noon]" in texts
    assert study.trace().content_key in texts
    assert len(page.encode()) < 6e6


def _figures(read: _Read) -> list[dict[str, Any]]:
    """What the page gives to the package that draws its figures."""
    found: list[dict[str, Any]] = [json.loads(script) for script in read.in_json]
    return found


def _coloured(value: Any, key: str = "") -> Any:
    """With a colour for each name of one, as the page does."""
    if isinstance(value, dict):
        return {name: _coloured(one, name) for name, one in value.items()}
    if isinstance(value, list):
        return [_coloured(one, key) for one in value]
    if key.endswith("color"):
        assert value in {"ink", "sea", "buoy", "sand", "kelp", "dusk", "foam", "card"}
        return "#22313f"
    return value


def test_figures_are_as_their_package_wants_them(landing: tuple[Study, str]) -> None:
    """It refuses what it does not know. Both plans stand on one axis, where a point of 12:00 is one of the local clock."""
    import plotly.graph_objects as go

    study, page = landing
    figures = _figures(_Read(page))
    assert len(figures) == 5  # two of the comparison, one over time, two about money
    for figure in figures:
        go.Figure(_coloured({"data": figure["data"], "layout": figure["layout"]}))
    over_time = figures[2]
    curves = over_time["data"]
    assert {"noon", "bold"} <= {curve["name"] for curve in curves}
    assert all(len(curve["y"]) == len(over_time["x"]) for curve in curves)
    assert over_time["x"] == sorted(over_time["x"])
    # Curves are rates and shares: those of narrow windows and of wide ones add up to the requests of the trace.
    edges_ms = [*over_time["x"], over_time["layout"]["xaxis"]["range"][1]]
    arrivals = next(curve["y"] for curve in curves if curve["name"] == "arrivals")
    requests = sum(rate * step / 1000 for rate, step in zip(arrivals, np.diff(edges_ms), strict=True))
    assert requests == pytest.approx(len(study.trace()), rel=1e-3)
    peak = np.datetime64(int(over_time["x"][int(np.argmax(arrivals))]), "ms")
    assert str(peak)[11:13] in {"11", "12"}  # by the clock of the ferries, whose summer is an hour ahead of UTC
    names = [view["name"] for view in over_time["views"]]
    assert names[0] == "All of it"
    assert any(name.startswith("Most ") for name in names)
    assert any(name.startswith("Rolling release, 12:00") for name in names)


def test_texts_of_figures_are_texts() -> None:
    """What draws them reads some markup: none of it comes from a name, and no name ends a script."""
    assert text("<b>&amp;</b>") == "&lt;b&gt;&amp;amp;&lt;/b&gt;"
    assert text("x" * 300) == "x" * 31 + "\N{HORIZONTAL ELLIPSIS}" + "x" * 8
    assert "<" not in Live("", {"x": "</script><script>"}).as_json()
    assert numbers([1.23456, None, np.nan, 2.0, np.inf]) == [1.235, None, None, 2, None]


def test_narrow_windows_replace_wide_ones() -> None:
    """From 60 to 120 three of 20 s instead of one of 60: nothing twice, nothing missing."""
    wide = {"at_s": np.array([0.0, 60.0, 120.0]), "n": np.array([1.0, 2.0, 3.0])}
    fine = {"at_s": np.arange(0.0, 180.0, 20.0), "n": np.arange(10.0, 19.0)}
    merged = _merged([_Given(fine, 20.0), _Given(wide, 60.0)], [(70.0, 110.0)])
    assert merged["at_s"].tolist() == [0, 60, 80, 100, 120]
    assert merged["n"].tolist() == [1, 13, 14, 15, 3]
    assert _merged([_Given(fine, 20.0), _Given(wide, 60.0)], [])["at_s"].tolist() == [0, 60, 120]


def test_the_worst_stretch() -> None:
    """Where most requests failed; with no failure where most were late."""
    at_s = np.arange(0.0, 4 * 3600.0, 2.0)
    wait_s = np.where((at_s > 9000) & (at_s < 9300), 30.0, 0.1)
    trace = make_trace(at_s.tolist(), wait=wait_s.tolist(), span_s=4 * 3600)
    plan, goals = make_plan(), Objectives(p95="1s")
    failed = replay(trace, Service(slots=500, timeout="5s"), plan, goals)
    late = replay(trace, Service(slots=500), plan, goals)
    for outcome, what in ((failed, "most failures"), (late, "most late")):
        begin, end, said = worst_stretch(outcome)
        assert said == what
        assert begin <= 9000
        assert 9300 <= end <= begin + 3600


class _Given(NamedTuple):
    series: dict[str, np.ndarray]
    width_s: float

    def arrays(self) -> dict[str, np.ndarray]:
        return self.series


def test_without_the_package_figures_are_pictures(landing: tuple[Study, str], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("libramen.report.page.find_spec", lambda _name: None)
    read = _Read(dossier(landing[0], plans=["noon", "bold"]).to_html())
    images = [attributes for tag, attributes in read.tags if tag == "img"]
    assert len(images) == 4
    assert all(
        (one["alt"] or "").strip() and (one["src"] or "").startswith("data:image/svg+xml;base64,") for one in images
    )
    assert len(read.in_script) == 1
    assert read.in_json == []


def test_nothing_comes_from_elsewhere_and_nothing_else_runs(landing: tuple[Study, str]) -> None:
    _, page = landing
    read = _Read(page)
    drawing, script = (text.strip("\n") + "\n" for text in read.in_script if text.strip())
    assert script == files("libramen.report").joinpath("page.js").read_text(encoding="utf-8")
    (policy,) = [
        attributes["content"] or "" for tag, attributes in read.tags
        if tag == "meta" and attributes.get("http-equiv") == "Content-Security-Policy"
    ]  # fmt: skip
    assert drawing.strip() == str(drawing_script()).strip()
    digests = " ".join(
        f"'sha256-{base64.b64encode(hashlib.sha256(one.encode()).digest()).decode()}'"
        for one in (str(drawing_script()), script)
    )
    assert policy.split("; ") == [
        "default-src 'none'", f"script-src {digests}", "style-src 'unsafe-inline'", "img-src data:",
        "base-uri 'none'", "form-action 'none'",
    ]  # fmt: skip
    for tag, attributes in read.tags:
        assert tag not in {"iframe", "object", "embed", "link", "base", "form"}
        for name, value in attributes.items():
            assert not name.startswith("on")
            assert name not in {"src", "href"} or re.match(r"data:image/svg\+xml;base64,|#", value or "")
    assert "eval(" not in script
    assert "Function(" not in script


def test_names_are_texts(tmp_path: Path) -> None:
    """Of plans, tiers, fees, routes and the study: no tag, no attribute, no template comes from them."""
    study = _tricky(tmp_path)
    page = dossier(study).to_html()
    read = _Read(page)
    assert [tag for tag, _ in read.tags].count("script") == 2 + len(read.in_json)
    known = {
        "html", "head", "meta", "title", "style", "body", "a", "header", "p", "h1", "h2", "h3", "dl", "div", "dt", "dd",
        "nav", "ul", "li", "main", "section", "table", "thead", "tbody", "tr", "th", "td", "figure", "img", "details",
        "summary", "pre", "script", "code", "figcaption", "",
    }  # fmt: skip
    assert {tag for tag, _ in read.tags} <= known
    assert not [name for _, attributes in read.tags for name in attributes if name.startswith("on")]
    texts = " ".join(read.texts)
    for trick in TRICKS[:7]:  # more routes than these have no row
        assert trick.replace("\u202e", "\\u202e") in texts, trick
    assert "49" not in re.findall(r"\{\{.*?\}\}|>49<", page)
    assert "\u202e" not in page


def test_the_next_best_is_one_that_holds(tmp_path: Path) -> None:
    """Of those that meet every objective the second by its price; not a cheaper one that misses."""
    rng = np.random.default_rng(3)
    columns = {"at_s": np.cumsum(rng.exponential(0.5, 300)), "cpu_s": rng.exponential(0.8, 300)}
    tiers = {"t": {"billing": "per_hour", "sizes": {"small": {"cores": 1, "per_hour": 0.02}}}}
    plans = {f"n{n}": {"tier": "t", "replicas": n} for n in (6, 1, 5, 4)}
    study = load_study(
        write_study(tmp_path, columns, tiers, plans, service={"slots": 4, "timeout": "9s"}, objectives={"p95": "8s"})
    )
    assert [figures.plan for figures in study.compare().figures if not figures.meets_all] == ["n1"]
    found = dossier(study)
    assert (found.chosen.plan.name, found.runner_up and found.runner_up.plan.name) == ("n4", "n5")


def test_a_log_with_many_routes(tmp_path: Path) -> None:
    page = dossier(_tricky(tmp_path, n_routes=10_000)).to_html()
    assert len(page.encode()) < 6e6


def test_the_command(tmp_path: Path) -> None:
    """As a page or as Markdown; in full it has all."""
    study = _tricky(tmp_path)
    run, file = CliRunner().invoke, str(study.path)
    store = ["--store", str(tmp_path / "kept.sqlite")]
    assert (
        run(
            app,
            [
                "report",
                file,
                "--out",
                str(tmp_path / "r.html"),
                "--full",
                "--grow",
                "8%",
                "--plan",
                TRICKS[1],
                "--plan",
                TRICKS[6],
                *store,
            ],
        ).exit_code
        == 0
    )
    page = (tmp_path / "r.html").read_text(encoding="utf-8")
    assert "When another one is cheaper" in page
    assert "How much more load each plan takes" in page
    assert "months at 8 %" in page
    assert "Not computed" not in page
    again = run(
        app, ["report", file, "--out", str(tmp_path / "r.md"), "--plan", TRICKS[1], "--plan", TRICKS[6], *store]
    )
    assert again.exit_code == 0
    assert "### When another one is cheaper" in (tmp_path / "r.md").read_text(encoding="utf-8")
    with pytest.MonkeyPatch.context() as patch:  # what is refused, is so before anything is replayed; nor is drawn
        for drawing in ("live_of", "live_of_costs", "_picture"):
            patch.setattr(f"libramen.report.page.{drawing}", lambda *_: pytest.fail("drawn for a text"))
        assert run(app, ["report", file, "--out", str(tmp_path / "again.md"), *store]).exit_code == 0
        patch.setattr("libramen.questions.dossier.compare", lambda *_args, **_how: pytest.fail("replayed"))
        late = run(app, ["report", file, "--out", str(tmp_path / "late.md"), "--grow", "0"])
    assert str(late.exception).startswith("grow: found 0; allowed: above 0")
    refused = run(app, ["report", file, "--out", str(tmp_path / "r.pdf")])
    assert isinstance(refused.exception, OutputError)
    assert "found the ending '.pdf'; allowed: .html or .md" in str(refused.exception)


# -- in a browser ------------------------------------------------------------------------------------


@pytest.fixture
def browser() -> Iterator[Any]:
    """Chromium, without a window; with LIBRAMEN_BROWSER=required its absence is a failure."""
    there, driver = shutil.which("chromium"), shutil.which("chromedriver")
    if there is None or driver is None:
        told = "there is no chromium with chromedriver on this machine"
        if os.environ.get("LIBRAMEN_BROWSER") == "required":
            pytest.fail(told)
        pytest.skip(told)
    from selenium import webdriver
    from selenium.webdriver.chrome.service import Service

    options = webdriver.ChromeOptions()
    options.binary_location = there
    for argument in (
        "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
        "--disable-background-networking", "--disable-component-update", "--disable-sync", "--window-size=1280,800",
    ):  # fmt: skip
        options.add_argument(argument)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    chrome = webdriver.Chrome(options=options, service=Service(driver))
    yield chrome
    chrome.quit()


def _asked(browser: Any) -> list[str]:
    """The addresses that were asked for."""
    events = [json.loads(entry["message"])["message"] for entry in browser.get_log("performance")]
    return [one["params"]["request"]["url"] for one in events if one["method"] == "Network.requestWillBeSent"]


def test_in_a_browser(browser: Any, landing: tuple[Study, str], tmp_path: Path) -> None:
    """It says nothing on the console, asks for nothing, sorts, prints, fits a phone, and a checker of access is content."""
    from axe_selenium_python import Axe
    from selenium.webdriver import ActionChains
    from selenium.webdriver.common.by import By

    (tmp_path / "r.html").write_text(landing[1], encoding="utf-8")
    browser.get((tmp_path / "r.html").as_uri())
    assert browser.get_log("browser") == []
    elsewhere = [url for url in _asked(browser) if not url.startswith(("file:", "data:"))]
    assert elsewhere == []

    table = browser.find_element(By.CSS_SELECTOR, "#plans ~ .table table")
    heads = {head.text: head for head in table.find_elements(By.CSS_SELECTOR, "thead button")}

    def column(place: int) -> list[str]:
        rows = table.find_elements(By.CSS_SELECTOR, "tbody tr")
        return [row.find_elements(By.CSS_SELECTOR, "th, td")[place].text.replace("\u00a0", " ") for row in rows]

    place = list(heads).index("available")
    heads["available"].click()
    up = column(place)
    heads["available"].click()
    assert column(place) == up[::-1]
    assert up == ["99.980 %", "100 %"]
    assert heads["available"].find_element(By.XPATH, "..").get_attribute("aria-sort") == "descending"
    heads["plan"].send_keys("\n")  # with the keyboard
    assert column(0) == sorted(column(0))

    # A button zooms to a stretch, with the mouse and with the keyboard, and names of plans cover no other.
    figure = next(one for one in browser.find_elements(By.CSS_SELECTOR, ".live") if "over time" in one.text)
    buttons = figure.find_elements(By.CSS_SELECTOR, ".views button")
    shown = "return arguments[0].querySelector('.plot')._fullLayout.xaxis.range.map(String)"
    whole = browser.execute_script(shown, figure)
    buttons[1].click()
    stretch = browser.execute_script(shown, figure)
    assert whole[0] < stretch[0] < stretch[1] < whole[1]
    assert buttons[1].get_attribute("aria-pressed") == "true"
    buttons[0].send_keys(" ")
    assert browser.execute_script(shown, figure) == whole
    # Dragged over, it shows what was dragged over.
    panel = figure.find_element(By.CSS_SELECTOR, ".draglayer .xy .nsewdrag")
    ActionChains(browser).move_to_element_with_offset(panel, -100, 0).click_and_hold().move_by_offset(
        160, 0
    ).release().perform()
    dragged = browser.execute_script(shown, figure)
    assert whole[0] < dragged[0] < dragged[1] < whole[1]

    pdf = base64.b64decode(browser.execute_cdp_cmd("Page.printToPDF", {"preferCSSPageSize": True})["data"])
    assert pdf.startswith(b"%PDF")
    assert browser.get_log("browser") == []  # nor has the policy refused anything meanwhile
    assert [url for url in _asked(browser) if not url.startswith(("file:", "data:"))] == []
    for scheme in ("light", "dark"):
        features = {"features": [{"name": "prefers-color-scheme", "value": scheme}]}
        browser.execute_cdp_cmd("Emulation.setEmulatedMedia", features)
        axe = Axe(browser)
        axe.inject()
        found = axe.run()["violations"]
        serious = [
            (one["id"], one["nodes"][0]["html"][:120]) for one in found if one["impact"] in {"serious", "critical"}
        ]
        assert serious == [], scheme
    phone = {"width": 375, "height": 800, "deviceScaleFactor": 1, "mobile": True}
    browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", phone)
    assert browser.execute_script("return document.documentElement.scrollWidth") <= 375


def test_tricks_do_nothing_in_a_browser(browser: Any, tmp_path: Path) -> None:
    from selenium.webdriver.common.by import By

    (tmp_path / "r.html").write_text(dossier(_tricky(tmp_path, 10_000)).to_html(), encoding="utf-8")
    browser.get((tmp_path / "r.html").as_uri())
    assert browser.get_log("browser") == []
    assert [url for url in _asked(browser) if not url.startswith(("file:", "data:"))] == []
    assert browser.title == f"{TRICKS[3]}: which hosting"
    figures = len(browser.find_elements(By.CSS_SELECTOR, ".live"))
    assert browser.execute_script("return document.scripts.length") == 2 + figures
    assert figures >= 4
    # Names in figures are texts as well: no link, nothing bold.
    assert browser.find_elements(By.CSS_SELECTOR, ".live svg a, .live svg tspan[style*=bold]") == []
    names = [one.text for one in browser.find_elements(By.CSS_SELECTOR, ".live svg text.legendtext")]
    assert TRICKS[0] in names
