"""What people write down: a misspelt key is an error, and nothing that silently does something else."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", populate_by_name=True)
