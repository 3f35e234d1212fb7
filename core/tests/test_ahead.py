"""Compiled code that is kept: met again without the compiler, and never where it is not the very same."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from core_support import CoreTest, write_exr

from nexal.code_version import ROOT
from nexal.kernels import ahead

DOUBLE = """
import numba
from nexal.kernels.addresses import pointer

@numba.njit(nogil=True)
def double(at: int, count: int, by: float) -> None:
    values = numba.carray(pointer(at), (count,), numba.float32)
    for index in range(count):
        values[index] = values[index] * by

@numba.njit(nogil=True)
def prints(at: int) -> None:
    print(at)
"""


class Ahead(CoreTest):
    def setUp(self) -> None:
        self.kept = self.folder()
        modules = self.folder()
        (modules / "doubling.py").write_text(DOUBLE)
        path = os.pathsep.join([str(modules), os.environ.get("PYTHONPATH", "")])
        self.enterContext(mock.patch.dict(os.environ, NUMBA_CACHE_DIR=str(self.kept), PYTHONPATH=path))
        ahead.loaded.cache_clear()
        self.addCleanup(ahead.loaded.cache_clear)

    def doubled(self) -> list[float]:
        ahead.loaded.cache_clear()
        values = np.arange(5, dtype=np.float32)
        ahead.loaded("doubling", "double", "iid")(values.ctypes.data, 3, 2.0)
        return list(values)

    def files(self) -> list[Path]:
        return sorted(self.kept.glob("doubling.*"))

    def test_it_is_compiled_once_and_met_again(self) -> None:
        self.assertEqual(self.doubled(), [0, 2, 4, 3, 4])
        self.assertEqual(len(self.files()), 1)
        with mock.patch("subprocess.run", side_effect=AssertionError("compiled again")):
            self.assertEqual(self.doubled(), [0, 2, 4, 3, 4])

    def test_what_is_damaged_or_of_another_version_is_compiled_anew(self) -> None:
        self.doubled()
        (file,) = self.files()
        whole = file.read_bytes()
        with mock.patch.object(ahead, "_compiled", return_value=whole[64:]) as compiled:
            for wrong in (b"", whole[:50], whole[:-1], whole[:200] + b"?" + whole[201:], b"?" + whole[1:]):
                file.write_bytes(wrong)
                compiled.reset_mock()
                self.assertEqual(self.doubled(), [0, 2, 4, 3, 4])
                compiled.assert_called_once()
                self.assertEqual(file.read_bytes(), whole)
            with mock.patch.object(ahead, "version_of", return_value="another"):
                self.assertEqual(self.doubled(), [0, 2, 4, 3, 4])
                self.assertNotEqual(file.read_bytes()[:32], whole[:32])

    def test_where_nothing_can_be_kept_it_works_nevertheless(self) -> None:
        with mock.patch.dict(os.environ, NUMBA_CACHE_DIR="/proc/nowhere"):
            self.assertEqual(self.doubled(), [0, 2, 4, 3, 4])

    def test_what_needs_more_than_itself_is_refused_with_the_reason(self) -> None:
        with self.assertRaisesRegex(RuntimeError, "it calls"):
            ahead.loaded("doubling", "prints", "i")


class Still(CoreTest):
    def test_a_still_is_made_without_loading_the_compiler(self) -> None:
        folder = self.folder()
        write_exr(folder / "p.exr", {name: np.full((4, 6), 0.2, np.float16) for name in "RGB"})
        steps = [{"name": "s", "op": "stretch", "in": {"from": "p"}, "set": {"middle": 0.3}}]
        outputs = {"o": {"from": "s", "file": "o.exr"}}
        recipe = {"nexal": 1, "sources": {"p": {"files": "p.exr"}}, "steps": steps, "outputs": outputs}
        (folder / "r.json").write_text(json.dumps(recipe))
        lines = [
            "import sys",
            "from nexal.cli import main",
            f"code = main(['run', '{folder}/r.json', '--out', '{folder}/out'])",
            "print(code, [name for name in ('numba', 'scipy', 'nexal.kernels.ahead') if name in sys.modules])",
        ]
        told = subprocess.run(
            [sys.executable, "-c", "\n".join(lines)],
            env=os.environ | {"PYTHONPATH": str(ROOT.parent)},
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertIn("0 ['nexal.kernels.ahead']", told.stdout, told.stderr)


if __name__ == "__main__":
    unittest.main()
