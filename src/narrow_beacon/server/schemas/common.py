"""What many answers share."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, PlainSerializer

from narrow_beacon.server.columns import listed

Number = float | None
Numbers = Annotated[list[Number], PlainSerializer(listed, return_type=list[Number])]
"""Where nothing checks them they may be an array, told as a list only when it is written."""
FullNumbers = Annotated[list[float], PlainSerializer(listed, return_type=list[float])]
"""The same where there is always a number."""


class Asked(BaseModel):
    """What a page sends: finite numbers, and texts that can be kept."""

    model_config = ConfigDict(allow_inf_nan=False, str_max_length=2000)


Id = Annotated[int, Field(ge=0, lt=2**31)]
IdList = Annotated[list[Id], Field(max_length=100_000)]
Name = Annotated[str, Field(max_length=120)]
Short = Annotated[str, Field(max_length=40)]
Address = Annotated[str, Field(max_length=1000)]


class Done(BaseModel):
    """Nothing to say but that it was done."""

    words: str = ""


class Ids(Asked):
    ids: IdList


class OneValue(BaseModel):
    """A column of the same value throughout."""

    all: Any


class Worded(BaseModel):
    """A column of few different words: the words, and which one each row has."""

    words: list[str]
    at: list[int]


Columns = dict[str, list[Any] | OneValue | Worded]
"""A table a column at a time."""
