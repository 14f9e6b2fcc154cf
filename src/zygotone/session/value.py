"""The base of all models of a session."""

from __future__ import annotations

from typing import Annotated, Any, Self

from pydantic import BaseModel, ConfigDict, Field

Name = Annotated[str, Field(min_length=1, max_length=120)]
Id = Annotated[str, Field(min_length=1, max_length=80, pattern=r"^[\w.-]+$")]


class Value(BaseModel):
    """Base of all models: frozen, nothing unknown, no NaN."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    def replace(self, **changes: Any) -> Self:
        return self.model_copy(update=changes)
