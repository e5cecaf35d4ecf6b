"""Random prices of everything, and a replay of two services that are paid for by them."""

from __future__ import annotations

from typing import Any

from hypothesis import strategies as st

from builders import make_plan, make_tier, make_trace
from libramen import Outcome, Plan, Service, Terms, Tier, replay

DAY = 86400.0
SWITCH: dict[str, Any] = {"at": 3600, "strategy": "switch", "keep_old": 7200}

prices = st.decimals(0, 5, places=3)
stepped = st.one_of(
    prices,
    st.builds(
        lambda one, two, edge: [{"up_to": edge, "price": one}, {"price": two}], prices, prices, st.integers(1, 900)
    ),
)
fees = st.lists(
    st.one_of(
        st.builds(lambda price: {"name": "m", "per_month": price}, prices),
        st.builds(lambda price: {"name": "h", "per_replica_hour": price}, stepped),
        st.builds(lambda price: {"name": "x", "per_replica_month": price}, prices),
        st.builds(lambda price: {"name": "r", "per_million_requests": price}, prices),
        st.builds(lambda share, least: {"name": "s", "share": share, "least": least}, st.floats(0, 1), prices),
    ),
    max_size=3,
    unique_by=lambda fee: fee["name"],
)
catalogues = st.fixed_dictionaries(
    {
        "egress_per_gb": stepped, "balancer_per_hour": stepped, "zone_per_hour": prices, "fixed_per_month": prices,
        "least_per_month": st.integers(0, 4000), "fees": fees, "free": st.builds(
            lambda gb: {"egress_gb": gb}, st.floats(0, 5)
        ),
    }
)  # fmt: skip
months = (catalogues, fees, st.floats(0, 0.3), st.booleans(), st.integers(0, 3), st.sampled_from(["once", "as_traced"]))


def two_services(tier: Tier, **of: Any) -> tuple[Plan, dict[str, Service]]:
    """Two services on one tier; of route a go three times as many requests as of route b."""
    plan = Plan(name="two", services={name: make_plan(tier, **of).only for name in ("a", "b")})
    return plan, {name: Service(slots=5, routes=[f"/{name}"], cpu_share=1) for name in ("a", "b")}


def of_everything(
    keys: dict[str, Any], own: list[Any], tax: float, together: bool, committed: int, events: Any, **trace: Any
) -> Outcome:
    """A day of two services, in two zones, on one tier or on two, with a release, commitments, fees and tax."""
    tier = make_tier(billing="per_hour", zones=["east", "west"], **keys)
    plan, services = two_services(tier, replicas=2, rollouts=[SWITCH])
    more = {"fees": own, "committed": [{"replicas": committed, "off": 0.25, "upfront": 7}]}
    other = tier if together else make_tier(name="other", fixed_per_month=2)
    plan = plan.replace(services={"a": plan.of("a").replace(**more), "b": make_plan(other, replicas=1).only})
    terms = Terms(tax=tax, fees=own, month={"events": events})
    requests = make_trace(
        [10, 4000, 30000, 50000], cpu=20, wait=[1, 60, 2, 3], bytes_out=[1e8, 3e8, 2e8, 1e7],
        route=["/a", "/a", "/b", "/a"], span_s=DAY, **trace,
    )  # fmt: skip
    return replay(requests, services, plan, terms=terms)
