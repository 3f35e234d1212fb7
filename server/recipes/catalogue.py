"""Route: the catalogue of operations."""

from functools import cache
from typing import Any

from django.http import HttpRequest
from ninja import Field, Router, Schema

from nexal.analysis.describe import operation_rows

router = Router()


class PortRow(Schema):
    name: str
    kind: str
    text: str
    required: bool
    many: bool
    role: str = Field(
        description="What feeds it by itself: depth, position, normal, matte, id, colour, made, or anything"
    )


class OperationRow(Schema):
    op: str
    family: str
    text: str
    needs: str
    ports: list[PortRow]
    free_ports: str | None
    makes: str = Field(description="What a new step makes: plane, picture, or the same as its first port is fed with")
    settings: dict[str, dict[str, Any]]


@cache
def _catalogue() -> list[OperationRow]:
    return [OperationRow(**entry) for entry in operation_rows()]


@router.get("/operations", response=list[OperationRow])
def operations(request: HttpRequest) -> list[OperationRow]:
    """Every operation: ports, settings as JSON Schema, text."""
    return _catalogue()
