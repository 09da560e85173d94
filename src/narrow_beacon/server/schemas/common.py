"""What many answers share."""

from __future__ import annotations

from pydantic import BaseModel

Number = float | None
Numbers = list[float | None]


class Done(BaseModel):
    """Nothing to say but that it was done."""

    words: str = ""


class Ids(BaseModel):
    ids: list[int]
