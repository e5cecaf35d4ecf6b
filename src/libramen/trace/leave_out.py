"""Which requests are left out: a table of the study."""

from __future__ import annotations

from pydantic import Field

from libramen.base.fields import PositiveSeconds, Table


class LeaveOut(Table):
    """One kind of request to be left out; of several keys all must fit."""

    route: str | None = Field(None, description='pattern of routes or paths, such as "/health*"')
    status: str | None = Field(None, description='pattern of statuses, such as "499" or "5??"')
    agent: str | None = Field(None, description='pattern of user agents, such as "*bot*" (capitals do not matter)')
    longer: PositiveSeconds | None = Field(None, description="requests that took longer, such as open connections [s]")

    def __str__(self) -> str:
        shown = {key: value for key in type(self).model_fields if (value := getattr(self, key)) is not None}
        return ", ".join(f"{key} {value!r}" for key, value in shown.items()) or "nothing"
