"""Bodies of requests, read strictly: what could not be stored, or takes the reader itself down, is refused."""

import json
import math
from typing import Any

from django.http import HttpRequest
from ninja.parser import Parser

FAULT = "nexal_body_fault"
"""Attribute of a request that tells what is wrong with its body."""
DEEPEST = 64
"""Lists and objects inside of each other at the most."""


class StrictParser(Parser):
    """JSON as its standard has it: no NaN, no infinity, no halves of letters, and not nested without end."""

    def parse_body(self, request: HttpRequest) -> Any:
        try:
            data = json.loads(request.body, parse_constant=_refuse, parse_float=_finite)
            _check(data)
        except RecursionError:
            fault = "it is nested too deeply"
        except UnicodeDecodeError:
            fault = "it is not UTF-8"
        except ValueError as error:
            fault = str(error)[:200]
        else:
            return data
        # The interface's own library answers that it cannot be parsed, and no more: see `errors`.
        setattr(request, FAULT, f"the body cannot be read: {fault}")
        raise ValueError(fault)


def _refuse(word: str) -> float:
    raise ValueError(f"{word} is no number that can be kept")


def _finite(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise ValueError(f"{text[:20]} is beyond what numbers hold")
    return value


def _check(data: Any) -> None:
    """Level by level: depth, and texts that are letters."""
    level, depth = [data], 0
    while level:
        depth += 1
        if depth > DEEPEST:
            raise ValueError(f"it is nested more than {DEEPEST} deep")
        following: list[Any] = []
        for value in level:
            if isinstance(value, dict):
                following += value.keys()
                following += value.values()
            elif isinstance(value, list):
                following += value
            elif isinstance(value, str) and not value.isascii() and not _is_text(value):
                raise ValueError("a text holds half of a letter")
            elif isinstance(value, int) and abs(value) > 2**63:
                raise ValueError("a whole number is beyond what can be kept")
        level = following


def _is_text(value: str) -> bool:
    try:
        value.encode()
    except UnicodeEncodeError:
        return False
    return True
