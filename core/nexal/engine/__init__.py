"""Evaluation of a recipe for an item, frame, scale and region."""

from nexal.engine.cache import PlaneCache
from nexal.engine.evaluate import Engine
from nexal.engine.kept import Kept
from nexal.engine.plan import Node, Plan, Reader
from nexal.work import Cancellation

__all__ = ["Cancellation", "Engine", "Kept", "Node", "Plan", "PlaneCache", "Reader"]
