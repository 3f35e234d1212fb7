"""Memory of planes that are no more is used again, and never while anybody still looks at it."""

from __future__ import annotations

import gc
import unittest
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from core_support import CoreTest
from hypothesis import given
from hypothesis import strategies as st
from patience import trials

from nexal.memory import ALIGNED, LEAST, Pool, is_whole

SIDE = 512
"""Of a plane of float32 that is worth it."""


def address(array: np.ndarray) -> int:
    return int(array.__array_interface__["data"][0])


class Memory(CoreTest):
    def test_what_is_left_is_used_again(self) -> None:
        pool = Pool(1 << 24)
        first = pool.empty((SIDE, SIDE))
        at = address(first)
        self.assertEqual((first.shape, first.dtype, at % ALIGNED), ((SIDE, SIDE), np.float32, 0))
        first[:] = 3
        first.setflags(write=False)
        del first
        self.assertGreaterEqual(pool.held, SIDE * SIDE * 4)
        again = pool.empty((2, SIDE, SIDE), np.uint16)
        self.assertEqual((address(again), again.flags.writeable, pool.held), (at, True, 0))

    def test_not_while_a_part_of_it_is_left(self) -> None:
        pool = Pool(1 << 24)
        whole = pool.empty((SIDE, SIDE))
        part = whole[3:4, ::2].T
        view = memoryview(whole[5:])
        at = address(whole)
        del whole
        self.assertNotEqual(address(pool.empty((SIDE, SIDE))), at)
        del part
        self.assertNotEqual(address(pool.empty((SIDE, SIDE))), at)
        view.release()
        del view
        held = [pool.empty((SIDE, SIDE)) for _ in range(2)]
        self.assertIn(at, [address(each) for each in held])

    def test_what_hangs_on_itself_is_used_again_once_it_is_found(self) -> None:
        pool = Pool(1 << 24)
        ring: list[object] = [pool.empty((SIDE, SIDE))]
        ring.append(ring)
        del ring
        gc.collect()
        self.assertGreater(pool.held, 0)

    def test_it_is_bounded_and_the_oldest_goes(self) -> None:
        pool = Pool(5 * SIDE * SIDE)
        planes = [pool.empty((SIDE, SIDE)) for _ in range(4)]
        last = address(planes[3])
        for _ in range(4):
            planes.pop(0)
            self.assertLessEqual(pool.held, pool.limit)
        self.assertEqual(address(pool.empty((SIDE, SIDE))), last)

    def test_small_arrays_are_left_to_the_system(self) -> None:
        pool = Pool(1 << 24)
        self.assertIsNone(pool.empty((4, 4)).base)
        self.assertIsNotNone(pool.empty((LEAST // 4,)).base)
        self.assertEqual(pool.held > 0, True)

    def test_it_knows_what_is_no_part_of_another(self) -> None:
        pool = Pool(1 << 24)
        plane = pool.empty((SIDE, SIDE))
        self.assertTrue(is_whole(plane) and is_whole(np.empty(3)))
        self.assertFalse(is_whole(plane[1:]) or is_whole(np.empty(3)[1:]))

    @trials(40)
    @given(st.lists(st.tuples(st.integers(0, 5), st.integers(1, 400)), max_size=40))
    def test_no_two_planes_share_a_byte(self, moves: list[tuple[int, int]]) -> None:
        pool = Pool(4 << 20)
        live: dict[int, np.ndarray] = {}
        for number, (slot, rows) in enumerate(moves):
            live.pop(slot, None)
            plane = pool.empty((rows, 1000))
            plane.fill(number)
            live[slot] = plane[:: 1 + number % 3]
            for slot_of, each in live.items():
                self.assertEqual(len(np.unique(each)), 1, slot_of)
        values = {slot: set(np.unique(plane)) for slot, plane in live.items()}
        self.assertTrue(all(len(found) == 1 for found in values.values()))
        self.assertEqual(len(set().union(*values.values())), len(values))

    def test_threads_take_and_leave_at_once(self) -> None:
        pool = Pool(3 << 20)

        def work(number: int) -> bool:
            for turn in range(150):
                plane = pool.empty((200 + 100 * (turn % 3), 1000))
                plane.fill(number)
                if not (plane == number).all():
                    return False
            return True

        with ThreadPoolExecutor(6) as threads:
            self.assertTrue(all(threads.map(work, range(6))))
        self.assertLessEqual(pool.held, pool.limit)


if __name__ == "__main__":
    unittest.main()
