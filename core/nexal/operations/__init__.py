"""The operations, one class a row, one family a module."""

from nexal.operations import (
    channels,
    combining,
    edges,
    formulas,
    grading,
    ink,
    keying,
    making,
    mattes,
    neighbourhood,
    painting,
    passes,
    refining,
    shapes,
)
from nexal.operations.base import Operation, PointOperation, Port, Scene, Settings, catalogue, find, parse_settings

__all__ = [
    "Operation",
    "PointOperation",
    "Port",
    "Scene",
    "Settings",
    "catalogue",
    "channels",
    "combining",
    "edges",
    "find",
    "formulas",
    "grading",
    "ink",
    "keying",
    "making",
    "mattes",
    "neighbourhood",
    "painting",
    "parse_settings",
    "passes",
    "refining",
    "shapes",
]
