"""Turns of those who follow what changes: nobody waits alone, many do not meet, and what they are told is bounded."""

from __future__ import annotations

import heapq
import itertools
from contextlib import ExitStack
from unittest import TestCase

from server_support import ServerTest, crowded

from stage.pace import CLOSEST, COMPANY_SECONDS, DEAREST_SECONDS, LONGEST_SECONDS, WIDEST, Pace


class Clock:
    """Time, and processor time, that pass as they are told."""

    def __init__(self) -> None:
        self.now, self.spent = 100.0, 3.0

    def pass_by(self, seconds: float, busy: float | None = None) -> None:
        self.now += seconds
        self.spent += seconds if busy is None else busy


class Turns(TestCase):
    def setUp(self) -> None:
        self.clock = Clock()
        self.pace = Pace(lambda: self.clock.now, lambda: self.clock.spent)

    def answered(self, who: str, seconds: float = 0.01) -> float:
        with self.pace.answering(who) as turn:
            self.clock.pass_by(seconds)
            return turn()

    def together(self, people: list[str], seconds: float = 0.01) -> list[float]:
        """When each is told to ask again who all ask at once and are answered one after the other."""
        with ExitStack() as all_of_them:
            asked = [all_of_them.enter_context(self.pace.answering(who)) for who in people]
            told = []
            for turn in asked:
                self.clock.pass_by(seconds)
                told.append(self.clock.now + turn())
        return told

    def test_nobody_waits_alone(self) -> None:
        for _ in range(50):
            self.assertEqual(self.answered("one"), 0)
        # Nor do several views of one person for each other.
        now = self.clock.now
        told = self.together(["one"] * 5)
        self.assertEqual([round(at - now, 6) for at in told], [0.01, 0.02, 0.03, 0.04, 0.05])
        self.clock.pass_by(5, 0)
        self.assertEqual(self.answered("one"), 0)

    def test_many_get_a_turn_each(self) -> None:
        people = [f"person {number}" for number in range(10)]
        for _ in range(30):
            told = self.together(people)
            self.clock.pass_by(0.2, 0)
        told = sorted(self.together(people)[1:])
        apart = [later - sooner for sooner, later in itertools.pairwise(told)]
        self.assertGreater(min(apart), 0.009)

    def test_who_is_gone_is_in_nobodys_way(self) -> None:
        for who in ("one", "other") * 5:
            self.answered(who)
        self.clock.pass_by(COMPANY_SECONDS + 0.1, 0)
        now = self.clock.now
        self.assertEqual([round(at - now, 6) for at in self.together(["one"] * 3)], [0.01, 0.02, 0.03])

    def test_what_they_are_told_is_bounded(self) -> None:
        people = [f"person {number}" for number in range(1000)]
        for _ in range(3):
            for at, who in enumerate(people):
                with self.pace.answering(who) as turn:
                    self.clock.pass_by(0.001, 60.0 if at % 100 == 0 else 0.03)
                    self.assertLessEqual(turn(), LONGEST_SECONDS + 1e-9)
        # Nor where all of them are worked at.
        began = self.clock.now
        for number, at in enumerate(self.together(people, 0.03), 1):
            self.assertLessEqual(at - began - 0.03 * number, LONGEST_SECONDS + 1e-6)

    def test_work_of_minutes_beside_it_is_not_what_an_answer_costs(self) -> None:
        for who in ("one", "other") * 20:
            self.answered(who)
        self.clock.spent += 300
        told = [self.answered(who) for who in ("one", "other") * 2]
        self.assertLess(max(told), WIDEST * DEAREST_SECONDS)

    def test_a_request_that_fails_is_worked_at_no_longer(self) -> None:
        for _ in range(20):
            with self.assertRaises(ZeroDivisionError), self.pace.answering("one"):
                raise ZeroDivisionError
        self.assertFalse(self.pace._at_work)
        self.answered("one")
        # Else the other would be told to wait for twenty that are gone.
        self.assertLess(self.answered("other"), 0.03)

    def test_turns_go_apart_where_they_meet_and_together_where_not(self) -> None:
        with self.pace.answering("a"), self.pace.answering("b"):
            for _ in range(100):
                self.answered("c")
        self.assertEqual(self.pace._distance, WIDEST)
        with self.pace.answering("a"):
            for _ in range(1000):
                self.answered("c")
        self.assertEqual(self.pace._distance, CLOSEST)

    def test_many_are_answered_as_if_they_were_few(self) -> None:
        """Twelve people who ask as soon as they may, at a server that takes a hundredth of a second for each, one after
        the other, and now and then for a tenth."""
        hasty, told = self.lived_through(heeded=False), self.lived_through(heeded=True)
        self.assertGreater(percentile(hasty, 50), 0.1)
        self.assertLess(percentile(told, 50), 0.02)
        self.assertLess(percentile(told, 95), 0.04)
        self.assertGreater(len(told), 0.8 * len(hasty))

    def lived_through(self, heeded: bool) -> list[float]:
        """How long each answer took within 30 seconds."""
        self.setUp()
        asks = [(self.clock.now + 0.001 * number, str(number)) for number in range(12)]
        queue: list[tuple[float, str, ExitStack, object]] = []
        took = []
        over = self.clock.now + 30
        heapq.heapify(asks)
        while self.clock.now < over:
            while asks and (asks[0][0] <= self.clock.now or not queue):
                at, who = heapq.heappop(asks)
                self.clock.now = max(self.clock.now, at)
                work = ExitStack()
                queue.append((at, who, work, work.enter_context(self.pace.answering(who))))
            at, who, work, turn = queue.pop(0)
            self.clock.pass_by(0.1 if len(took) % 500 == 499 else 0.01)
            took.append(self.clock.now - at)
            wait = turn()  # type: ignore[operator]
            work.close()
            # Painting and the next move of a hand take a moment.
            heapq.heappush(asks, (self.clock.now + 0.02 + (wait if heeded else 0), who))
        return took


def percentile(values: list[float], rank: int) -> float:
    return sorted(values)[len(values) * rank // 100]


class Told(ServerTest):
    def test_a_view_that_is_followed_tells_its_turn_to_two_people(self) -> None:
        self.upload()
        self.save(self.story())
        path = f"/api/shots/{self.shot.pk}/view"
        ask = {"address": "cut", "view": "stage"}
        with crowded(0.12):
            followed, unnamed = self.api.post(path, ask), self.api.post(path, {"address": "cut"})
            later = self.api.post(path, ask)
        self.assertEqual(followed.headers.get("X-Nexal-Next"), "120")
        self.assertNotIn("X-Nexal-Next", unnamed.headers)
        self.assertGreater(int(later.headers["X-Nexal-Next"]), 120)
        self.assertNotIn("X-Nexal-Next", self.api.post(path, ask).headers)
