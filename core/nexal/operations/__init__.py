"""The operations, one class a row, one family a module."""

from nexal.operations import channels, edges, making, mattes, neighbourhood
from nexal.operations.base import Operation, PointOperation, Port, Scene, Settings, catalogue, find, parse_settings

__all__ = [
    "Operation",
    "PointOperation",
    "Port",
    "Scene",
    "Settings",
    "catalogue",
    "channels",
    "edges",
    "find",
    "making",
    "mattes",
    "neighbourhood",
    "parse_settings",
]
