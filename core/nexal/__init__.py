"""Nexal's computation core: pictures, recipes, operations and the engine that evaluates them."""

__version__ = "0.1.0"
