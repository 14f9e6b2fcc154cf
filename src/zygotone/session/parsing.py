"""Reading what a file says: JSON, and models from it."""

from __future__ import annotations

import gc
import json
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from zygotone.errors import BadFileError, ZygotoneError, one_line

_M = TypeVar("_M", bound=BaseModel)


@contextmanager
def nothing_let_go() -> Iterator[None]:
    """While a file is read, which makes objects by the hundred thousand that all stay: to look through them for what could go, again
    and again, would take a third of the time."""
    looks = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if looks:
            gc.enable()


def parse_model(model: type[_M], data: Any, file: object, place: str) -> _M:
    """Raises BadFileError naming file, place and reason."""
    try:
        return model.model_validate(data)
    except ValidationError as error:
        raise BadFileError(file, place, one_line(error)) from None
    except (ZygotoneError, RecursionError) as error:
        raise BadFileError(file, place, str(error)) from None


def parse_json(text: bytes, file: object, place: str) -> Any:
    """Raises BadFileError naming file, place and reason."""
    try:
        return json.loads(text)
    except RecursionError:
        raise BadFileError(file, place, "is nested too deeply") from None
    except UnicodeDecodeError:
        raise BadFileError(file, place, "is not text") from None
    except json.JSONDecodeError as error:
        raise BadFileError(file, f"{place} line {error.lineno}", f"is not JSON ({error.msg.lower()})") from None
    except ValueError as error:  # a number of more digits than Python reads
        raise BadFileError(file, place, f"cannot be read ({one_line(error)[:120]})") from None
