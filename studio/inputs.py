"""What requests bring, read once at the edge: the right types, finite numbers, sensible bounds, or a sentence."""

from __future__ import annotations

import json
import math
from typing import Annotated, Any, TypeVar

from django.http import HttpRequest, QueryDict
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError

from core.errors import InputError
from core.tempomap.limits import LAST_BAR


class BadInput(InputError):
    """A request that means nothing, in words for the engineer; ``status`` of the answer."""

    def __init__(self, words: str, status: int = 422) -> None:
        super().__init__(words)
        self.status = status


#: No number of a request is larger: whole ones stay exact in JavaScript and in the database.
LARGEST = 2**53
#: Keys of rows.
Key = Annotated[int, Field(ge=0, le=LARGEST)]
#: Seconds of a take; before zero where bars lead in.
Seconds = Annotated[float, Field(ge=-86_400, le=864_000)]
Bar = Annotated[int, Field(ge=-LAST_BAR, le=LAST_BAR)]
#: Decimal comma or point, as engineers write numbers in forms.
Decimal = Annotated[float, BeforeValidator(lambda v: v.replace(",", ".").strip() if isinstance(v, str) else v)]


class Body(BaseModel):
    """A request of the page's scripts."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Form(BaseModel):
    """The fields of a form or of an address; empty ones count as not written, others than these are none of ours."""

    model_config = ConfigDict(extra="ignore", allow_inf_nan=False)


#: What the engineer calls a field whose name does not say it.
_CALLED = {
    "at": "time",
    "bars": "number of bars",
    "beats": "number of beats",
    "bpm": "tempo",
    "by": "distance",
    "snap_within": "distance to snap",
    "to": "time",
    "within": "distance",
}
B = TypeVar("B", bound=BaseModel)
DAMAGED = "The request was damaged on its way; try again."


def read_json(request: HttpRequest) -> dict[str, Any]:
    """The body as an object whose numbers are finite. Raises :class:`BadInput`."""
    try:
        data = json.loads(request.body, parse_constant=_number, parse_float=_number, parse_int=_number)
    except BadInput:
        raise
    except (ValueError, RecursionError):  # no JSON, no UTF-8, endless nesting
        raise BadInput(DAMAGED, 400) from None
    if not isinstance(data, dict):
        raise BadInput(DAMAGED, 400)
    return data


def read_body(request: HttpRequest, model: type[B]) -> B:
    """The body as ``model``. Raises :class:`BadInput`."""
    return checked(model, read_json(request))


def read_form(fields: QueryDict, model: type[B]) -> B:
    """The fields of a form, or of an address, as ``model``. Raises :class:`BadInput`."""
    return checked(model, {name: value for name, value in fields.items() if value != ""})


def whole(text: str | None, low: int = -LAST_BAR, high: int = LAST_BAR, what: str = "Bars are whole numbers.") -> int:
    """A whole number of a field, such as a bar. Raises :class:`BadInput` with ``what`` as its sentence."""
    try:
        value = int(text or "")
    except ValueError:
        raise BadInput(what) from None
    if not low <= value <= high:
        raise BadInput(what)
    return value


def checked(model: type[B], data: Any) -> B:
    """``data`` as ``model``. Raises :class:`BadInput`."""
    try:
        return model.model_validate(data)
    except ValidationError as e:
        raise BadInput(reason(e)) from None


def reason(error: ValidationError) -> str:
    """The first thing that is wrong, as a sentence."""
    first = error.errors()[0]
    if first["type"] == "value_error":
        return str(first["ctx"]["error"])
    field = field_called(error)
    if first["type"] == "missing":
        return f"The {field} is missing."
    if first["type"] == "extra_forbidden":
        return f"Nothing here is called “{field[:40]}”."
    return f"The {field} cannot be “{str(first.get('input'))[:60]}”."


def field_called(error: ValidationError) -> str:
    """What the engineer calls the first field that is wrong."""
    names = [str(x) for x in error.errors()[0]["loc"] if isinstance(x, str)]
    name = names[-1] if names else "value"
    return _CALLED.get(name, name.replace("_", " "))


def _number(text: str) -> float | int:
    """A number of JSON. Raises :class:`BadInput` where it is none, or beyond all bounds."""
    value = float(text)
    if not math.isfinite(value) or abs(value) > LARGEST:
        raise BadInput("A number is beyond all bounds.")
    return value if any(c in text for c in ".eE") else int(text)
