"""Jobs: claimed once among all processes, taken up when their process is gone, given up when they end it."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import threading
import time
from datetime import timedelta
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.db import connection
from django.test import RequestFactory, TransactionTestCase, override_settings
from django.utils import timezone
from patience import wait_until

from config.clients import address_of
from jobs import services
from jobs.models import Job
from jobs.services import LEASE, MOST_STARTS, Kind, Later, Runner, claim, submit
from nexal.errors import Cancelled
from stage.superseding import TurnCancellation, Turns


class Claims(TransactionTestCase):
    def setUp(self) -> None:
        self.done: list[int] = []
        self.given_up: list[int] = []
        self.open: list[int] = []
        kind = Kind(self.work, self.given_up.append, lambda: self.open)
        self.enterContext(mock.patch.dict(services._KINDS, {"test": kind}, clear=True))
        self.enterContext(mock.patch.object(services, "runner", return_value=mock.Mock()))
        self.enterContext(override_settings(NEXAL_JOBS="thread"))

    def work(self, key: int) -> None:
        time.sleep(0.002)
        self.done.append(key)

    def test_many_workers_do_each_job_once(self) -> None:
        for key in range(60):
            submit("test", key)
            submit("test", key)

        def run(name: str) -> None:
            runner = Runner()
            runner.name = name
            while runner.step("files"):
                pass
            connection.close()

        threads = [threading.Thread(target=run, args=(f"worker-{number}",)) for number in range(6)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(60)
        self.assertEqual(sorted(self.done), list(range(60)))
        self.assertFalse(Job.objects.exists())

    def test_a_job_of_a_process_that_is_gone_is_taken_up_when_its_lease_is_over(self) -> None:
        submit("test", 7)
        gone = claim("gone", ["test"])
        assert gone
        self.assertIsNone(claim("other", ["test"]))
        Job.objects.update(lease=timezone.now() - timedelta(seconds=1))
        self.assertTrue(Runner().step("files"))
        self.assertEqual((self.done, Job.objects.count()), ([7], 0))
        self.assertLess(LEASE, timedelta(seconds=10))

    def test_a_job_that_ends_its_process_again_and_again_is_given_up(self) -> None:
        submit("test", 7)
        for _ in range(MOST_STARTS):
            self.assertIsNotNone(claim("gone", ["test"]))
            Job.objects.update(lease=timezone.now() - timedelta(seconds=1))
        Runner().step("files")
        self.assertEqual((self.done, self.given_up, Job.objects.count()), ([], [7], 0))

    def test_what_is_wanted_anew_while_it_is_worked_at_is_done_again(self) -> None:
        def work(key: int) -> None:
            self.done.append(key)
            self.open[:] = [key] if len(self.done) == 1 else []

        with mock.patch.dict(services._KINDS, {"test": Kind(work, self.given_up.append, lambda: self.open)}):
            submit("test", 7)
            while Runner().step("files"):
                pass
        self.assertEqual((self.done, Job.objects.count()), ([7, 7], 0))

    def test_what_is_left_undone_again_and_again_is_given_up(self) -> None:
        self.open = [7]
        self.given_up = mock.Mock(side_effect=lambda key: self.open.clear())
        with mock.patch.dict(services._KINDS, {"test": Kind(self.work, self.given_up, lambda: self.open)}):
            submit("test", 7)
            while Runner().step("files"):
                pass
        self.assertEqual((self.done, Job.objects.count()), ([7] * MOST_STARTS, 0))
        self.given_up.assert_called_once_with(7)

    def test_what_cannot_be_done_yet_is_done_later_and_never_given_up(self) -> None:
        submit("test", 7)
        for _ in range(2 * MOST_STARTS):
            kind = Kind(mock.Mock(side_effect=Later(30)), self.given_up.append, list)
            with mock.patch.dict(services._KINDS, {"test": kind}):
                self.assertTrue(Runner().step("files"))
            self.assertFalse(Runner().step("files"), "not before its time")
            Job.objects.update(lease=timezone.now() - timedelta(seconds=1))
        self.assertTrue(Runner().step("files"))
        self.assertEqual((self.done, self.given_up), ([7], []))

    def test_what_is_to_be_done_and_lost_its_job_gets_one(self) -> None:
        self.open = [7]
        services.submit_unfinished()
        services.submit_unfinished()
        self.assertEqual(list(Job.objects.values_list("key", flat=True)), [7])

    def test_leases_are_renewed_however_long_it_is_looked_for_what_is_to_be_done(self) -> None:
        looking, go_on = threading.Event(), threading.Event()
        self.addCleanup(go_on.set)

        def unfinished() -> list[int]:
            looking.set()
            go_on.wait(60)
            return []

        self.enterContext(mock.patch.dict(services._KINDS, {"test": Kind(self.work, self.given_up.append, unfinished)}))
        self.enterContext(mock.patch.object(services, "RENEW_SECONDS", 0.02))
        self.enterContext(mock.patch.object(services, "SWEEP_SECONDS", 0.02))
        submit("test", 7)
        runner = Runner()
        held = claim(runner.name, ["test"])
        assert held
        runner._held.add(held.pk)
        runner.wake()
        self.addCleanup(runner.stop)
        self.assertTrue(looking.wait(60))
        for _ in range(3):
            Job.objects.update(lease=timezone.now() + timedelta(seconds=1))
            wait_until(lambda: Job.objects.filter(lease__gt=timezone.now() + LEASE / 2).exists())
        self.assertEqual((self.done, Job.objects.get().starts), ([], 1))

    def test_no_two_runners_have_the_same_name(self) -> None:
        self.assertNotEqual(Runner().name, Runner().name)
        self.assertLessEqual(len(Runner().name), 80)

    def test_a_fault_ends_the_job_and_not_the_thread(self) -> None:
        with mock.patch.dict(services._KINDS, {"test": Kind(lambda key: 1 // 0, self.given_up.append, list)}):
            submit("test", 1)
            with self.assertLogs("nexal.jobs", "ERROR"):
                self.assertTrue(Runner().step("files"))
        self.assertFalse(Job.objects.exists())

    def test_lanes_are_apart(self) -> None:
        with mock.patch.dict(services._KINDS, {"slow": Kind(self.work, self.given_up.append, list, lane="slow")}):
            submit("slow", 1)
            self.assertFalse(Runner().step("files"))
            self.assertTrue(Runner().step("slow"))

    def test_at_a_start_what_has_no_job_gets_one_and_what_has_one_keeps_it(self) -> None:
        self.open = [1, 2]
        submit("test", 2)
        held = claim("another process", ["test"])
        services.resume()
        rows = {job.key: job.worker for job in Job.objects.all()}
        assert held
        self.assertEqual(rows, {1: "", 2: "another process"})

    def test_a_runner_s_threads_work_and_stop(self) -> None:
        runner = Runner()
        for key in range(5):
            Job.objects.create(kind="test", key=key)
        runner.wake()
        wait_until(lambda: len(self.done) == 5)
        runner.stop()
        self.assertEqual(sorted(self.done), list(range(5)))


class Superseded(TransactionTestCase):
    def test_a_newer_request_in_another_process_takes_the_turn(self) -> None:
        path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "turns"
        turns = Turns(path)
        mine, other = TurnCancellation(turns, "mine"), TurnCancellation(turns, "other")
        mine.check()
        script = f"""
from pathlib import Path
from stage.superseding import Turns
for _ in range(500): Turns(Path({str(path)!r})).take("mine")
"""
        folders = ":".join(str(settings.ROOT / name) for name in ("core", "server"))
        others = [
            subprocess.Popen(
                [sys.executable, "-c", script],
                env={"PYTHONPATH": folders, "DJANGO_SETTINGS_MODULE": "config.settings", "PATH": "/usr/bin:/bin"},
            )
            for _ in range(2)
        ]
        self.assertEqual([each.wait(60) for each in others], [0, 0])
        with self.assertRaises(Cancelled):
            mine.check()
        other.check()
        self.assertEqual(turns.take("mine")[2], 1002)


class Clients(TransactionTestCase):
    def test_the_word_of_a_proxy_counts_and_nobody_else_s(self) -> None:
        def address(connection_from: str, header: str) -> str:
            more = {"HTTP_X_FORWARDED_FOR": header} if header else {}
            return address_of(RequestFactory().get("/", REMOTE_ADDR=connection_from, **more))

        self.assertEqual(address("127.0.0.1", "10.1.1.1"), "127.0.0.1")
        with override_settings(NEXAL_PROXIES=["127.0.0.1", "10.0.0.2"]):
            self.assertEqual(address("127.0.0.1", "10.1.1.1"), "10.1.1.1")
            self.assertEqual(address("127.0.0.1", "6.6.6.6, 10.1.1.1"), "10.1.1.1")
            self.assertEqual(address("127.0.0.1", "6.6.6.6, 10.1.1.1, 10.0.0.2"), "10.1.1.1")
            self.assertEqual(address("127.0.0.1", ""), "127.0.0.1")
            self.assertEqual(address("10.9.9.9", "10.1.1.1"), "10.9.9.9")
