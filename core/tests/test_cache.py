"""The plane cache: its bytes, what goes first, and what a drag leaves alone."""

from __future__ import annotations

import unittest

import numpy as np
from core_support import CoreTest, gradient, rgba, run
from hypothesis import given
from hypothesis import strategies as st
from patience import trials

from nexal.engine import Engine, PlaneCache
from nexal.engine.cache import PlaneKey
from nexal.picture import Window


class Cache(CoreTest):
    def test_the_cache_stays_within_its_bytes_and_forgets_the_oldest(self) -> None:
        cache = PlaneCache(10_000)
        window = Window(0, 0, 20, 20)
        keys = [PlaneKey(f"d{number}", 1, "Y") for number in range(12)]
        for key in keys:
            cache.put(key, window, np.zeros((20, 20), np.float32))
            self.assertLessEqual(cache.held, 10_000)
            cache.find(keys[0], window)
        self.assertIsNotNone(cache.find(keys[0], window))
        self.assertIsNone(cache.find(keys[1], window))

    def test_a_drag_displaces_nothing_that_is_used(self) -> None:
        cache, window = PlaneCache(40_000), Window(0, 0, 20, 20)
        used = [PlaneKey(f"used {number}", 1, "Y") for number in range(8)]
        for key in used:
            cache.put(key, window, np.zeros((20, 20), np.float32))
            cache.find(key, window)
        for number in range(100):
            cache.put(PlaneKey(f"dragged {number}", 1, "Y"), window, np.zeros((20, 20), np.float32), trial=True)
            # A quarter, and no more, is for what was not wanted again.
            self.assertLessEqual(cache.held, 8 * 1600 + 10_000)
        self.assertTrue(all(cache.has(key, window) for key in used))
        self.assertTrue(cache.has(PlaneKey("dragged 99", 1, "Y"), window))
        self.assertFalse(cache.has(PlaneKey("dragged 50", 1, "Y"), window))

    def test_more_than_a_quarter_that_comes_again_stays(self) -> None:
        """A request may need more planes than there is room for on trial: the second time they are kept."""
        cache, window = PlaneCache(40_000), Window(0, 0, 20, 20)
        keys = [PlaneKey(f"d{number}", 1, "Y") for number in range(20)]
        found = []
        for _ in range(3):
            there = 0
            for key in keys:
                if cache.find(key, window) is None:
                    cache.put(key, window, np.zeros((20, 20), np.float32), trial=True)
                else:
                    there += 1
            found.append(there)
        self.assertEqual((found[0], found[2]), (0, 20))

    @trials(100)
    @given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 9), st.integers(1, 40)), max_size=60))
    def test_it_holds_what_it_says_and_no_more(self, moves: list[tuple[int, int, int]]) -> None:
        cache = PlaneCache(20_000)
        for move, name, side in moves:
            key, window = PlaneKey(f"d{name}", 1, "Y"), Window(name, 0, side, 30)
            if move < 2:
                cache.put(key, window, np.full((30, side), name, np.float32), trial=move == 1)
            else:
                plane = cache.find(key, window)
                self.assertTrue(plane is None or (plane.shape == (30, side) and (plane == name).all()))
            planes = [*cache._trial.values(), *cache._proven.values()]
            self.assertEqual(cache.held, sum(plane.nbytes for plane in planes))
            self.assertEqual(len(planes), sum(map(len, cache._regions.values())))
            self.assertLessEqual(cache.held, 20_000)

    def test_a_held_region_serves_what_lies_inside(self) -> None:
        cache, key = PlaneCache(1 << 20), PlaneKey("d", 1, "Y")
        plane = gradient(30, 20)
        cache.put(key, Window(10, 10, 30, 20), plane)
        part = cache.find(key, Window(15, 12, 5, 4))
        np.testing.assert_array_equal(part, plane[2:6, 5:10])
        self.assertIsNone(cache.find(key, Window(9, 12, 5, 4)))
        self.assertFalse(part.flags.writeable)

    def test_what_a_render_makes_is_there_until_it_needs_the_room(self) -> None:
        """Only what is looked at is on trial: in a render both ways through a picture come back to it."""
        source = rgba()
        steps = [
            {"name": "base", "op": "blur", "in": {"from": "p"}, "set": {"radius": 1}},
            {"name": "soft", "op": "blur", "in": {"from": "base"}, "set": {"radius": 3}},
            {"name": "softer", "op": "blur", "in": {"from": "soft"}, "set": {"radius": 3}},
            {"name": "both", "op": "stack", "in": {"under": "base", "over": "softer"}},
        ]
        plane = next(iter(source.planes.values())).size * 4
        engine = Engine(cache_bytes=plane * 20, threads=2)
        run(steps, {"p": source}, "both", engine=engine)
        self.assertEqual(engine.computed, {"base": 1, "soft": 1, "softer": 1, "both": 1})


if __name__ == "__main__":
    unittest.main()
