"""Results that outlive the program are keyed by the code that makes them."""

from __future__ import annotations

import ast
import shutil
import sys
import unittest
import unittest.mock
from pathlib import Path

from core_support import CoreTest, rgba

from nexal import code_version
from nexal.code_version import closure, version_of
from nexal.engine import Plan
from nexal.operations import catalogue
from nexal.recipe import parse_recipe


def imports_by_syntax(path: Path) -> set[str]:
    """What a module imports of the package, found in its syntax tree: independent of how versions look for it."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.partition(".")[0] == "nexal":
            found |= {node.module, *(f"{node.module}.{alias.name}" for alias in node.names)}
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names if alias.name.partition(".")[0] == "nexal"}
    return found


def _imported(module: str) -> set[str]:
    """What a module of the core imports, by the first part of each name."""
    place = code_version.ROOT.joinpath(*module.split(".")[1:])
    path = place.with_suffix(".py") if place.with_suffix(".py").is_file() else place / "__init__.py"
    names: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module:
            names.add(node.module.partition(".")[0])
        elif isinstance(node, ast.Import):
            names |= {alias.name.partition(".")[0] for alias in node.names}
    return names


class Versions(CoreTest):
    def copy(self) -> Path:
        root = self.folder() / "nexal"
        shutil.copytree(code_version.ROOT, root, ignore=shutil.ignore_patterns("__pycache__"))
        return root

    def versions(self, root: Path) -> dict[str, str]:
        return {name: version_of(type(operation).__module__, root) for name, operation in catalogue().items()}

    def test_a_version_follows_every_module_that_an_operation_uses(self) -> None:
        modules = {
            "nexal." + ".".join(path.relative_to(code_version.ROOT).with_suffix("").parts): path
            for path in code_version.ROOT.rglob("*.py")
            if path.name != "__init__.py"
        }
        for operation in catalogue().values():
            used = closure(type(operation).__module__)
            for name in used & set(modules):
                missing = (imports_by_syntax(modules[name]) & set(modules)) - used
                self.assertEqual(missing, set(), f"{operation.name}: {name} imports what its version leaves out")

    def test_versions_of_libraries_count_of_those_that_are_used(self) -> None:
        """Every library that the core imports is known, is there, and changes what hangs on it, and nothing else."""
        imported: set[str] = set()
        for path in code_version.ROOT.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                if isinstance(node, ast.Import):
                    imported |= {alias.name.partition(".")[0] for alias in node.names}
                elif isinstance(node, ast.ImportFrom) and node.module and not node.level:
                    imported.add(node.module.partition(".")[0])
        others = imported - set(sys.stdlib_module_names) - {"nexal", "__future__"}
        # What only checks settings or hands out work makes no pixels.
        self.assertEqual(others - {"pydantic", "distributed"}, set(code_version.LIBRARIES))
        for name in code_version.LIBRARIES:
            self.assertRegex(code_version.library_version(name), r"^\d")
        before = self.versions(code_version.ROOT)
        real = code_version.library_version
        for library, of in (("cv2", {"blur", "despeckle"}), ("PyOpenColorIO", set()), ("numpy", set(before))):
            version_of.cache_clear()
            with unittest.mock.patch.object(
                code_version, "library_version", lambda name, library=library: "0" if name == library else real(name)
            ):
                after = self.versions(code_version.ROOT)
            changed = {name for name in before if before[name] != after[name]}
            self.assertGreaterEqual(changed, of, library)
            uses = {
                name
                for name, operation in catalogue().items()
                if any(library in _imported(each) for each in closure(type(operation).__module__))
            }
            self.assertEqual(changed, uses, library)
        version_of.cache_clear()

    def test_a_changed_kernel_changes_just_the_operations_that_use_it(self) -> None:
        root = self.copy()
        before = self.versions(root)
        kernel = root / "kernels" / "morphology.py"
        kernel.write_text(kernel.read_text().replace("0.5", "0.4") + "\nCHANGED = 1\n")
        for cached in (version_of, closure, code_version._imports, code_version._source, code_version._path):
            cached.cache_clear()
        after = self.versions(root)
        changed = {name for name in before if before[name] != after[name]}
        self.assertTrue({"grow", "despeckle", "edge_melt"} <= changed, changed)
        self.assertFalse({"cross", "invert", "ramp", "noise", "bay"} & changed, changed)

    def test_the_rule_of_mixing_is_part_of_all_that_mixes_and_of_reading(self) -> None:
        for module in ("nexal.operations.neighbourhood", "nexal.operations.resizing", "nexal.formats.reading"):
            self.assertIn("nexal.kernels.mixing", closure(module))

    def test_the_machine_is_part_of_all_that_it_runs(self) -> None:
        for module in ("nexal.operations.combining", "nexal.operations.mattes", "nexal.operations.formulas"):
            self.assertLessEqual({"nexal.kernels.machine", "nexal.kernels.powers"}, closure(module), module)

    def test_the_keys_of_results_hold_the_version(self) -> None:
        recipe = parse_recipe(
            {"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": [{"name": "b", "op": "blur", "in": {"from": "p"}}]}
        )
        source = rgba()
        before = Plan(recipe, 1, {"p": source}).node("b").digest
        self.assertEqual(Plan(recipe, 1, {"p": source}).node("b").digest, before)
        with unittest.mock.patch("nexal.operations.base.version_of", return_value="another"):
            self.assertNotEqual(Plan(recipe, 1, {"p": source}).node("b").digest, before)


if __name__ == "__main__":
    unittest.main()
