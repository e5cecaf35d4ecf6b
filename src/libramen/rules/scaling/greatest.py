"""`greatest`: several measures, and the one that wants most decides."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Final, Literal, Self

from pydantic import BeforeValidator, Discriminator, Field, Tag, model_validator

from libramen.base.fields import PositiveCount
from libramen.rules.scaling.rule import Needs, Observation, PeriodicRule, RuleSetting, View, Wanted
from libramen.rules.scaling.steps import Steps
from libramen.rules.scaling.target import Target

_PART_KEYS: Final = frozenset({"rule", "measure", "percentile", "window", "lag", "dead_band", "target", "up", "down"})
_ALLOWED: Final = "measure, percentile, window, lag, dead_band, target, or rule = 'steps' with up and down"


def _kind(table: Any) -> str:
    return str(table.get("rule", "target") if isinstance(table, dict) else getattr(table, "rule", "target"))


def _check_keys(table: Any) -> Any:
    keys = table if isinstance(table, dict) else getattr(table, "model_fields_set", ())
    if more := sorted(set(keys) - _PART_KEYS):
        raise ValueError(f"found {', '.join(more)}; allowed: {_ALLOWED}")
    return table


Part = Annotated[
    Annotated[Target, Tag("target")] | Annotated[Steps, Tag("steps")],
    Discriminator(
        _kind,
        custom_error_type="tag",
        custom_error_message="{names}",
        custom_error_context={"key": "rule", "names": "'target', 'steps'"},
    ),
    BeforeValidator(_check_keys),
]


class Greatest(PeriodicRule):
    """Ask each of its rules, and want the greatest number of them.

    A fleet that is right by its CPU may be wrong by its queue. Each rule has a measure, a window (default: `every`) and
    a lag of its own; inside its band it wants what there is, and without a measure it is left out unless all are.

    Example:
        >>> rule = Greatest(rules=[{"measure": "cpu", "target": "60%"}, {"measure": "waiting", "target": 1}])
        >>> of = [Observation(ready=4, measures={"cpu": 0.9}), Observation(ready=4, measures={"waiting": 4.0})]
        >>> rule.greatest(of)
        Wanted(replicas=16, held_by='', view=1)
    """

    rule: Literal["greatest"] = Field("greatest", description="several measures: the greatest number wanted")
    rules: tuple[Part, ...] = Field(description=f"tables with {_ALLOWED}")
    step_up: PositiveCount | None = Field(None, description="most replicas added at once (default: no limit)")
    step_down: PositiveCount | None = Field(None, description="most replicas removed at once (default: no limit)")

    @model_validator(mode="after")
    def _check_rules(self) -> Self:
        if not self.rules:
            raise ValueError("rules: found []; allowed: one or more")
        for key in ("window", "lag"):
            if key in self.model_fields_set:
                raise ValueError(f"{key}: each of the rules has its own; allowed: to leave it out")
        return self

    @property
    def views(self) -> tuple[View, ...]:
        """What each of its rules looks at."""
        return tuple(View(one.lag, self.every if one.window is None else one.window) for one in self.rules)

    @property
    def lag_s(self) -> float:
        """How far behind the latest of what it sees is [s]."""
        return min(one.lag for one in self.rules)

    @property
    def needs(self) -> Needs:
        """What its rules must be told of."""
        needs = [one.needs for one in self.rules]
        return Needs(latency=any(one.latency for one in needs), rate=any(one.rate for one in needs))

    def begin(self, setting: RuleSetting) -> Self:  # noqa: ARG002  (it remembers nothing)
        """It is asked itself."""
        return self

    def wanted(self, seen: Observation) -> Wanted:
        """The greatest number that any of its rules wants, within its steps."""
        return self.greatest(seen.views or (seen,))

    def greatest(self, views: Sequence[Observation]) -> Wanted:
        """The same of what each rule sees."""
        answers = [
            one.wanted(view)._replace(view=k) for k, (one, view) in enumerate(zip(self.rules, views, strict=True))
        ]
        measured = [one for one in answers if one.held_by != "no measure"] or answers
        best = max(measured, key=lambda one: one.replicas)
        have = views[0].have
        if self.step_up and best.replicas > have + self.step_up:
            return best._replace(replicas=have + self.step_up, held_by="step_up")
        if self.step_down and best.replicas < have - self.step_down:
            return best._replace(replicas=have - self.step_down, held_by="step_down")
        return best
