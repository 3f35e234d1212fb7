"""The table of families: what it says of the operations is so, and nobody loads more than what is asked for."""

from __future__ import annotations

import json
import os
import pkgutil
import subprocess
import sys
import unittest
from importlib import import_module
from pathlib import Path
from typing import Any

from core_support import CoreTest

from nexal import operations
from nexal.errors import RecipeError
from nexal.operations import FAMILIES, catalogue, find
from nexal.operations.base import registered


def alone(*lines: str) -> Any:
    """What an interpreter of its own prints as JSON, having read these lines."""
    root = Path(operations.__file__).resolve().parents[2]
    told = subprocess.run(
        [sys.executable, "-c", "\n".join(["import json, sys", "from nexal.operations import *", *lines])],
        env=os.environ | {"PYTHONPATH": str(root)},
        capture_output=True,
        text=True,
        check=False,
    )
    assert told.returncode == 0, told.stderr
    return json.loads(told.stdout)


class Families(CoreTest):
    def test_the_table_names_every_operation_of_every_module(self) -> None:
        for module in pkgutil.iter_modules(operations.__path__):
            import_module(f"{operations.__name__}.{module.name}")
        found: dict[str, list[str]] = {}
        for name, operation in registered().items():
            found.setdefault(type(operation).__module__.rpartition(".")[2], []).append(name)
        self.assertEqual(found, {family: list(names) for family, names in FAMILIES.items()})
        self.assertEqual(list(catalogue()), [name for names in FAMILIES.values() for name in names])
        for name, operation in catalogue().items():
            self.assertEqual(operation.name, name)
            self.assertIs(find(name), operation)

    def test_the_order_is_that_of_the_table_whatever_was_loaded_first(self) -> None:
        told = alone("find('denoise'), find('cross')", "print(json.dumps(list(catalogue())))")
        self.assertEqual(told, list(catalogue()))

    def test_one_operation_loads_its_own_family(self) -> None:
        for name, others in (("cross", {"channels"}), ("place", {"moving", "mixing", "movement"})):
            told = alone(
                f"find('{name}')",
                "names = [name.partition('nexal.operations.')[2] for name in sys.modules]",
                "print(json.dumps([name for name in names if name]))",
            )
            self.assertEqual(set(told), {"base", *others})

    def test_what_is_not_there_is_told_without_loading_anything(self) -> None:
        with self.assertRaisesRegex(RecipeError, "there is no operation 'crosss'") as caught:
            find("crosss")
        self.assertIn("cross", caught.exception.remedy)
        for name in ("", "base", "__init__", "channels.cross", "os"):
            self.assertRaises(RecipeError, find, name)


if __name__ == "__main__":
    unittest.main()
