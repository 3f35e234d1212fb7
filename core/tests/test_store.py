"""The plane store: kept within a budget, never taking what is used, safe between threads and processes."""

from __future__ import annotations

import errno
import os
import signal
import subprocess
import sys
import textwrap
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import fields, replace
from pathlib import Path
from unittest import mock

import numpy as np
from core_support import CoreTest, gradient, write_exr
from patience import wait_until

from nexal.errors import FormatError
from nexal.formats import locks
from nexal.formats.decoding import decode_file
from nexal.formats.reading import READINGS, DefaultSpec, reading
from nexal.formats.store import INDEX, LOCKS, Library
from nexal.formats.stored import COMPLETE, HEADER, STORE_VERSION, StoredFile, mapped_samples, write_samples
from nexal.formats.workers import begin
from nexal.recipe import SourceSpec

SIZE = 10_000


def made(library: Library, digest: str, used: int = 0, size: int = SIZE) -> None:
    """A decoded file as far as the library is concerned, last used at a time."""
    folder = library.folder / digest
    folder.mkdir(parents=True)
    (folder / "c0000.npy").write_bytes(bytes(size))
    (folder / COMPLETE).write_text(STORE_VERSION)
    os.utime(folder, (used, used))


class Mapped(CoreTest):
    def test_samples_are_those_that_were_written_of_any_type_size_and_order(self) -> None:
        path = self.folder() / "c0000.npy"
        for kind in (np.float16, np.float32, np.uint8, np.uint16, np.uint32):
            for shape in ((3, 5), (1, 1), (0, 4), (4, 0), (700, 300)):
                samples = (np.arange(np.prod(shape)) % 251).reshape(shape).astype(kind)
                for given in (samples, np.asfortranarray(samples), samples[::2, ::-1]):
                    write_samples(path, given)
                    got = mapped_samples(path)
                    self.assertEqual(got.dtype, given.dtype)
                    np.testing.assert_array_equal(got, given)
                    self.assertFalse(got.flags.writeable)

    def test_what_was_written_anew_is_seen_and_what_was_mapped_stays(self) -> None:
        path = self.folder() / "c0000.npy"
        write_samples(path, np.zeros((4, 4), np.float32))
        before = mapped_samples(path)
        write_samples(path, np.ones((4, 4), np.float32))
        self.assertEqual((before.max(), mapped_samples(path).min()), (0, 1))
        path.unlink()
        self.assertEqual(before.max(), 0)
        self.assertRaises(FileNotFoundError, mapped_samples, path)

    def test_a_file_that_is_none_or_ends_early_is_told(self) -> None:
        path = self.folder() / "c0000.npy"
        write_samples(path, np.ones((40, 40), np.float32))
        whole = path.read_bytes()
        for content in (b"", b"x", whole[:9], whole[:100], whole[:-1], bytes(SIZE)):
            path.write_bytes(content)
            with self.subTest(len(content)):
                self.assertRaises(ValueError, mapped_samples, path)


class Budget(CoreTest):
    def library(self, budget: int = int(2.5 * SIZE), in_use_seconds: float = 0.0) -> Library:
        library = Library(self.folder(), budget, in_use_seconds)
        self.addCleanup(library.close)
        return library

    def names(self, library: Library) -> set[str]:
        return {entry.name for entry in library.folder.iterdir()} - {LOCKS}

    def test_what_was_used_longest_ago_goes_first(self) -> None:
        library = self.library()
        for used, digest in enumerate(("b", "c", "a", "d")):
            made(library, digest, used + 1)
        library.trim()
        self.assertEqual(self.names(library), {"a", "d"})

    def test_use_keeps(self) -> None:
        library = self.library()
        for used, digest in enumerate("abcd"):
            made(library, digest, used + 1)
        self.assertTrue(library.use("a").complete)
        library.trim()
        self.assertEqual(self.names(library), {"a", "d"})

    def test_what_is_in_use_is_never_dropped(self) -> None:
        library = self.library(budget=0, in_use_seconds=300)
        for used, digest in enumerate("abc"):
            made(library, digest, used + 1)
        library.use("a")
        with library.using(["b"]):
            library.trim()
            self.assertEqual(self.names(library), {"a", "b"})
        library.trim()
        self.assertEqual(self.names(library), {"a"})
        # Used by another process a while ago, it counts as in use here; after that it does not.
        other = Library(library.folder, 0, 300)
        self.addCleanup(other.close)
        other.trim()
        self.assertEqual(self.names(library), {"a"})
        other.in_use_seconds = 0
        other.trim()
        self.assertEqual(self.names(library), set())

    def test_what_another_process_uses_is_not_dropped(self) -> None:
        library = self.library(budget=0)
        made(library, "a", 1)
        script = f"""
            import sys
            from pathlib import Path
            from nexal.formats.store import Library
            with Library(Path({str(library.folder)!r})).using(["a"]):
                print("held", flush=True)
                sys.stdin.read()
        """
        other = subprocess.Popen(
            [sys.executable, "-c", textwrap.dedent(script)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert other.stdout
        self.assertEqual(other.stdout.readline(), "held\n")
        library.trim()
        self.assertEqual(self.names(library), {"a"})
        other.kill()
        other.communicate()
        library.trim()
        self.assertEqual(self.names(library), set())

    def test_what_an_older_version_unpacked_is_unpacked_anew(self) -> None:
        library = self.library(budget=1 << 30)
        made(library, "a", 1)
        (library.folder / "a" / COMPLETE).write_text("1")
        path = write_exr(self.folder() / "p.exr", {"R": gradient(20, 10)})
        stored = library.unpack(path, "a")
        self.assertTrue(stored.complete)
        self.assertEqual(set(stored.channels), {"R"})

    def test_a_failed_unpacking_leaves_nothing_and_holds_nothing(self) -> None:
        library = self.library(budget=1 << 30)
        path = self.folder() / "broken.exr"
        path.write_bytes(b"nothing of the kind")
        for _ in range(2):
            with self.assertRaises(FormatError):
                library.unpack(path, "a")
        self.assertEqual(self.names(library), set())

    def test_files_that_vanish_while_they_are_counted_are_no_fault(self) -> None:
        library = self.library(budget=SIZE)
        made(library, "a", 1)
        stop = threading.Event()

        def churn() -> None:
            while not stop.is_set():
                (library.folder / "a" / "x.part").write_bytes(b"1")
                (library.folder / "a" / "x.part").unlink()

        thread = threading.Thread(target=churn)
        with library.using(["a"]):
            thread.start()
            for _ in range(300):
                library.trim()
            stop.set()
            thread.join()

    def open_files(self) -> int:
        return len(os.listdir("/proc/self/fd"))

    def test_thousands_of_files_in_use_hold_no_file_open(self) -> None:
        library = self.library(budget=1 << 30, in_use_seconds=300)
        for number in range(1500):
            made(library, f"d{number}", size=10)
        library.trim()
        before = self.open_files()
        for number in range(1500):
            self.assertTrue(library.use(f"d{number}").complete)
        self.assertLess(self.open_files(), before + 10)
        # So it is with small samples that are looked at.
        small = np.zeros((10, 10), np.float16)
        write_samples(library.folder / "d0" / "c0000.npy", small)
        seen = [mapped_samples(library.folder / "d0" / "c0000.npy") for _ in range(1500)]
        self.assertLess(self.open_files(), before + 10)
        self.assertEqual(seen[-1].shape, (10, 10))

    def test_a_fault_of_the_system_is_no_half_of_a_file(self) -> None:
        """Too many open files, or a disk that fails: nothing is known to be broken, and nothing is removed."""
        library = self.library(budget=1 << 30)
        made(library, "a", 1)
        path = write_exr(self.folder() / "p.exr", {"R": gradient(20, 10)})
        for code in (errno.EMFILE, errno.EIO, errno.EACCES):
            with (
                mock.patch("nexal.formats.stored.open", side_effect=OSError(code, "no"), create=True),
                self.assertRaises(OSError),
            ):
                library.unpack(path, "a")
            self.assertTrue((library.folder / "a" / "c0000.npy").is_file())
        self.assertTrue(library.unpack(path, "a").complete)

    def test_room_is_made_without_a_walk_through_the_store(self) -> None:
        library = self.library(budget=300 * (SIZE + len(STORE_VERSION)))
        for number in range(300):
            made(library, f"d{number}", number + 1)
        library.trim()
        looked: list[object] = []
        real = os.scandir
        with mock.patch("os.scandir", side_effect=lambda path=".": looked.append(path) or real(path)):
            library.trim()
            self.assertEqual(looked, [])
            made(library, "new", 1000)
            library.use("new")
            library.trim()
        # One folder was measured, and what goes is taken out of the index.
        self.assertLessEqual(len(looked), 6)
        self.assertNotIn("d0", self.names(library))
        self.assertIn("d1", self.names(library))
        self.assertLessEqual(library.index.total(), library.budget)

    def test_an_index_that_is_damaged_or_gone_is_made_anew(self) -> None:
        library = self.library(budget=1 << 30)
        for number in range(5):
            made(library, f"d{number}", number + 1)
        whole = 5 * (SIZE + len(STORE_VERSION))
        self.assertEqual(library.index.total(), whole)
        index = library.folder / LOCKS / INDEX
        for damage in (lambda: index.write_bytes(b"nothing of the kind" * 400), index.unlink):
            library.close()
            for suffix in ("-wal", "-shm"):
                index.with_name(index.name + suffix).unlink(missing_ok=True)
            damage()
            self.assertEqual((library.index.count(), library.index.total()), (5, whole))
        # While it is open, too.
        index.unlink()
        made(library, "more", 9)
        self.assertEqual(library.index.count(), 6)

    def test_processes_that_open_it_at_once_count_the_same(self) -> None:
        folder = self.folder()
        library = Library(folder)
        for number in range(20):
            made(library, f"d{number}", number + 1)
        script = f"""
            from pathlib import Path
            from nexal.formats.store import Library
            library = Library(Path({str(folder)!r}))
            for number in range(20):
                library.use(f"d{{number}}")
            print(library.index.count(), library.index.total())
        """
        others = [
            subprocess.Popen([sys.executable, "-c", textwrap.dedent(script)], stdout=subprocess.PIPE, text=True)
            for _ in range(4)
        ]
        told = {other.communicate()[0].strip() for other in others}
        self.assertEqual(told, {f"20 {20 * (SIZE + len(STORE_VERSION))}"})


class Known(CoreTest):
    """What was read of a file's header is kept for as long as it is that file's."""

    def setUp(self) -> None:
        self.library = Library(self.folder())
        self.addCleanup(self.library.close)

    def unpacked(self, digest: str, names: str = "RGB") -> StoredFile:
        path = self.folder() / "picture.exr"
        write_exr(path, {name: gradient(8, 4) for name in names})
        return self.library.unpack(path, digest)

    def test_a_file_is_read_once_and_anew_where_it_was_made_anew(self) -> None:
        first = self.unpacked("a")
        self.assertIs(self.library.stored("a"), first)
        self.assertIs(self.library.use("a"), first)
        self.assertEqual(set(first.channels), set("RGB"))
        self.assertTrue(self.library._drop("a", time.time()))
        self.assertFalse(self.library.stored("a").started)
        again = self.unpacked("a", "RGBA")
        self.assertIsNot(again, first)
        self.assertEqual(set(again.channels), set("RGBA"))

    def test_what_is_not_there_yet_is_not_kept(self) -> None:
        self.assertFalse(self.library.stored("a").started)
        self.assertIsNot(self.library.stored("a"), self.library.stored("a"))
        self.assertTrue(self.unpacked("a").complete)

    def test_no_more_is_kept_than_its_share(self) -> None:
        files = {digest: self.unpacked(digest) for digest in "abc"}
        size = (files["a"].folder / HEADER).stat().st_size
        with mock.patch("nexal.formats.store.KNOWN_BYTES", 2 * size + 9):
            self.library.stored("a")
            self.assertIsNot(self.library.stored("b"), files["b"])
            self.assertIs(self.library.stored("a"), files["a"])
        self.assertLessEqual(self.library._known_bytes, 2 * size + 9)

    def test_who_reads_alike_has_the_same_reading(self) -> None:
        stored = self.unpacked("a")
        plain = reading(stored, DefaultSpec(), "a")
        self.assertIs(reading(stored, SourceSpec(files="other.exr", offset=3), "a"), plain)
        self.assertIs(plain.description, reading(stored, DefaultSpec(), "a").description)
        said = {
            "colour": "linear",
            "read_alpha": "straight",
            "non_finite": "zero",
            "roles": {"": "mask"},
            "depth": "radial",
            "nothing": 0.0,
        }
        self.assertEqual(set(said), {each.name for each in fields(DefaultSpec)})
        others = {name: reading(stored, replace(DefaultSpec(), **{name: value}), "a") for name, value in said.items()}
        for name, other in others.items():
            self.assertEqual(getattr(other.spec, name), said[name])
        stored.readings.clear()
        plain = reading(stored, DefaultSpec(), "a")
        last = [reading(stored, DefaultSpec(), "a", 4), reading(stored, DefaultSpec(), "a", None, {"names.txt": "{}"})]
        self.assertEqual(len({id(each) for each in (plain, *last, *others.values())}), 9)
        self.assertEqual(plain.description.data, frozenset())
        self.assertEqual(others["roles"].description.data, frozenset("RGB"))
        # A number that is dragged makes many readings: they do not pile up.
        for step in range(100):
            reading(stored, DefaultSpec(nothing=float(step)), "a")
        self.assertLessEqual(len(stored.readings), READINGS)

    def test_figures_that_come_later_are_seen(self) -> None:
        path = self.folder() / "picture.exr"
        write_exr(path, {"Z": 5 * gradient(8, 4)})
        stored = self.library.unpack(path, "a", lean=True)
        source = reading(stored, DefaultSpec(roles={"": "depth"}), "a")
        stored._report_path("Z").unlink(missing_ok=True)
        (stored.folder / COMPLETE).rename(stored.folder / "away")
        self.assertIsNone(source.description.trait("Z").span())
        self.assertIsNone(stored.report_if_ready("Z"))
        (stored.folder / "away").rename(stored.folder / COMPLETE)
        self.assertIsNotNone(source.description.trait("Z").span())
        self.assertIsNotNone(stored.report_if_ready("Z"))


class Together(CoreTest):
    def test_the_same_file_unpacked_by_several_at_once(self) -> None:
        path = write_exr(self.folder() / "p.exr", {"R": gradient(400, 300).astype(np.float16)})
        library = Library(self.folder())
        self.addCleanup(library.close)
        with mock.patch("nexal.formats.store.decode_file", wraps=decode_file) as decoded:
            with ThreadPoolExecutor(4) as pool:
                found = list(pool.map(lambda _: library.unpack(path, "same"), range(8)))
            self.assertEqual(decoded.call_count, 1)
        self.assertEqual([stored.complete for stored in found], [True] * 8)
        np.testing.assert_array_equal(found[0].samples("R"), gradient(400, 300).astype(np.float16))

    def test_many_processes_unpack_use_and_drop_the_same_files(self) -> None:
        """What was unpacked or is used is there whole, whatever the others drop."""
        folder = self.folder()
        script = f"""
            import json, random, sys, time
            from pathlib import Path
            import nexal.formats.store as store
            from nexal.formats.stored import COMPLETE, STORE_VERSION

            def slowly(path, folder, cancelled, lock, lean, frame):
                folder.mkdir(parents=True)
                for number in range(5):
                    (folder / f"c{{number}}.part").write_bytes(bytes(2000))
                    time.sleep(0.001)
                    (folder / f"c{{number}}.part").rename(folder / f"c{{number}}.npy")
                (folder / COMPLETE).write_text(STORE_VERSION)

            store.decode_file = slowly
            library = store.Library(Path({str(folder)!r}), budget=25_000, in_use_seconds=0.02)
            random.seed(int(sys.argv[1]))
            until = time.monotonic() + 3
            rounds = 0
            while time.monotonic() < until or rounds < 4:
                digest = random.choice("abcdef")
                stored = library.unpack(Path("/none"), digest)
                with library.using([digest]):
                    if not library.stored(digest).complete:
                        continue
                    for _ in range(3):
                        assert len(list(stored.folder.glob("*.npy"))) == 5, "dropped while it was in use"
                        time.sleep(0.001)
                library.trim()
                rounds += 1
            print(rounds)
        """
        others = [
            subprocess.Popen(
                [sys.executable, "-c", textwrap.dedent(script), str(number)],
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                text=True,
            )
            for number in range(6)
        ]
        for other in others:
            output, faults = other.communicate(timeout=120)
            self.assertEqual((other.returncode, faults), (0, ""))
            self.assertGreater(int(output), 3)


class ManyFiles(CoreTest):
    def test_a_worker_reads_many_files_and_one_that_dies_takes_nothing_with_it(self) -> None:
        folder = self.folder()
        good = [write_exr(folder / f"{n}.exr", {"R": np.full((8, 8), n / 8, np.float32)}) for n in range(6)]
        bad = folder / "bad.exr"
        bad.write_bytes(good[0].read_bytes()[:200])
        started = []
        popen = subprocess.Popen

        def counted(*arguments: object, **options: object) -> subprocess.Popen:
            started.append(popen(*arguments, **options))
            return started[-1]

        with mock.patch("nexal.formats.workers._idle", []) as idle, mock.patch("subprocess.Popen", counted):
            for path in (*good[:3], bad, *good[3:5]):
                with suppress(FormatError):
                    decode_file(path, folder / "store" / path.stem)
            self.assertEqual(len(started), 1, "a damaged file that is told leaves its worker as it was")
            # Killed while nobody looks: the next file gets another one.
            started[0].kill()
            decode_file(good[5], folder / "store" / "5")
            self.assertEqual(len(started), 2)
            for worker in list(idle):
                worker.end()
        for number in range(6):
            plane = np.load(next((folder / "store" / str(number)).glob("*.npy")))
            self.assertEqual(float(plane.max()), number / 8)
        self.assertFalse((folder / "store" / "bad" / "complete").exists())

    def test_a_key_that_stops_a_command_is_not_for_its_workers(self) -> None:
        """They would tell of it in their own words; the command ends them."""
        with mock.patch("nexal.formats.workers._idle", []) as idle:
            begin()
            (worker,) = idle
            self.assertNotEqual(os.getpgid(worker.process.pid), os.getpgid(0))
            worker.end()
            self.assertIsNotNone(worker.process.returncode)

    def test_limits_hold_for_each_file_anew(self) -> None:
        folder = self.folder()
        large = write_exr(folder / "l.exr", {"R": np.zeros((2000, 2000), np.float32)})
        with mock.patch("nexal.formats.workers._idle", []) as idle:
            for turn in range(3):
                decode_file(large, folder / f"s{turn}")
            # Given up by the wish of who asked, and its worker with it.
            self.assert_refused(lambda: decode_file(large, folder / "p", cancelled=lambda: True), "takes too long")
            self.assertEqual(idle, [])


class Killed(CoreTest):
    def workers(self, folder: Path) -> list[int]:
        """Process ids of the decode workers that hold a lock below a folder."""
        found = []
        for process in Path("/proc").glob("[0-9]*"):
            with suppress(OSError):
                words = (process / "cmdline").read_bytes().decode().split("\0")
                opened = [os.readlink(file) for file in (process / "fd").iterdir()]
                if "nexal.formats.worker" in words and any(file.startswith(str(folder)) for file in opened):
                    found.append(int(process.name))
        return found

    def test_the_worker_of_a_killed_process_keeps_its_folder_to_itself_and_ends(self) -> None:
        noise = np.random.default_rng(1).random((1500, 2000)).astype(np.float32)
        # A file that takes seconds to be read.
        path = write_exr(self.folder() / "p.exr", {f"l{n}.R": noise for n in range(20)})
        folder = self.folder() / "store"
        script = f"""
            from pathlib import Path
            from nexal.formats.store import Library
            Library(Path({str(folder)!r})).unpack(Path({str(path)!r}), "a")
        """
        maker = subprocess.Popen([sys.executable, "-c", textwrap.dedent(script)])
        self.addCleanup(maker.wait)
        self.addCleanup(maker.kill)
        wait_until(lambda: self.workers(folder))
        (worker,) = self.workers(folder)
        os.kill(worker, signal.SIGSTOP)
        maker.kill()
        maker.wait()
        making = Library(folder)._making_path("a")
        self.assertIsNone(locks.acquire(making, wait=False), "the folder may still be written to")
        os.kill(worker, signal.SIGCONT)
        wait_until(lambda: not self.workers(folder))
        picture = write_exr(self.folder() / "q.exr", {"R": gradient(20, 10)})
        library = Library(folder)
        self.addCleanup(library.close)
        self.assertTrue(library.unpack(picture, "a").complete)


class Cleared(CoreTest):
    def test_halves_go_and_what_is_whole_or_being_made_stays(self) -> None:
        script = "import sys; from nexal.formats.locks import acquire; from pathlib import Path; "
        script += "acquire(Path(sys.argv[1])); print('held', flush=True); sys.stdin.read()"
        folder = self.folder()
        library = Library(folder)
        for digest in ("whole", "half", "coming"):
            made(library, digest)
            library._making_path(digest).parent.mkdir(exist_ok=True)
            library._making_path(digest).touch()
        for digest in ("half", "coming"):
            (folder / digest / COMPLETE).unlink()
        (folder / LOCKS / "x.1-2.gone").mkdir()
        other = subprocess.Popen(
            [sys.executable, "-c", script, str(library._making_path("coming"))],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        assert other.stdout
        self.assertEqual(other.stdout.readline(), "held\n")
        library.clear()
        self.assertEqual({path.name for path in folder.iterdir()}, {"whole", "coming", LOCKS})
        other.kill()
        other.communicate()
        library.clear()
        self.assertEqual({path.name for path in folder.iterdir()}, {"whole", LOCKS})
        locks_left = {path.name for path in (folder / LOCKS).iterdir() if not path.name.startswith(INDEX)}
        self.assertEqual(locks_left, {"whole.making"})
        self.assertEqual((library.index.count(), library.index.total()), (1, SIZE + len(STORE_VERSION)))


class Locks(CoreTest):
    def test_who_waited_for_a_deleted_lock_takes_the_new_one(self) -> None:
        path = self.folder() / "lock"
        first = locks.acquire(path)
        assert first is not None
        got: list[int | None] = []
        waiting = threading.Thread(target=lambda: got.append(locks.acquire(path)))
        waiting.start()
        path.unlink()
        os.close(first)
        waiting.join()
        self.assertIsNone(locks.acquire(path, wait=False))
        assert got[0] is not None
        os.close(got[0])

    def test_shared_locks_stand_beside_each_other_and_keep_others_out(self) -> None:
        path = Path(self.folder() / "lock")
        shared = [locks.acquire(path, shared=True, wait=False) for _ in range(2)]
        self.assertNotIn(None, shared)
        self.assertIsNone(locks.acquire(path, wait=False))
        for file in shared:
            assert file is not None
            os.close(file)
        with locks.held(path):
            self.assertIsNone(locks.acquire(path, shared=True, wait=False))


if __name__ == "__main__":
    unittest.main()
