"""The server process: slow, idle, greedy and vanishing clients hold nothing that others need."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable, Iterable
from typing import Any
from unittest import mock

from django.core import signing
from django.test import SimpleTestCase, override_settings
from patience import PATIENCE, wait_until

from config import front
from sources.tickets import FORM_BYTES, SALT, largest_body
from stage.answers import Samples

UPLOAD = "/api/shots/7/sources"
THREADS = 2


class Front(SimpleTestCase):
    planes = bytes(range(251)) * 40_000

    def setUp(self) -> None:
        self.enterContext(mock.patch.object(front, "CLEANUP_SECONDS", 0))
        self.enterContext(mock.patch.object(front, "HEADER_SECONDS", 0.5))
        self.bodies: list[int] = []
        self.threads: list[str] = []
        self.asked: list[str] = []
        self.looks_seconds = 0.05
        self.rounds = 0
        self.saw_hang_up = threading.Event()
        listening = socket.create_server(("127.0.0.1", 0), backlog=512)
        listening.setblocking(False)
        self.address = listening.getsockname()
        self.server = front.server_for(self.application, listening, threads=THREADS)
        self.ended = threading.Event()
        thread = threading.Thread(target=self.loop, daemon=True)
        thread.start()
        self.addCleanup(thread.join, 10)
        self.addCleanup(self.ended.set)

    def loop(self) -> None:
        while not self.ended.is_set():
            self.rounds += 1
            self.server.asyncore.loop(timeout=self.looks_seconds, map=self.server._map, use_poll=True, count=1)
        self.server.task_dispatcher.shutdown(timeout=1)
        self.server.close()

    def application(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        self.bodies.append(len(environ["wsgi.input"].read()))
        self.threads.append(threading.current_thread().name)
        self.asked.append(environ["PATH_INFO"])
        if environ["PATH_INFO"] == "/wait":
            wait_until(environ["waitress.client_disconnected"])
            self.saw_hang_up.set()
        if environ["PATH_INFO"] == "/watched":
            wait_until(lambda: all(channel._watched for channel in self.server.active_channels.values()))
        if environ["PATH_INFO"] == "/planes":
            response = Samples()
            response.content = memoryview(self.planes)
            start_response("200 OK", [("Content-Length", str(len(self.planes)))])
            wrapped: Iterable[bytes] = environ["wsgi.file_wrapper"](response.file_to_stream, response.block_size)
            return wrapped
        start_response("200 OK", [("Content-Length", "2")])
        return [b"ok"]

    def come_round(self) -> None:
        """Wait until the loop has looked about once more, whatever it was at."""
        before = self.rounds
        wait_until(lambda: self.rounds > before + 1)

    def at_rest(self) -> bool:
        """Whether all threads wait for work."""
        waiting: Any = self.server.task_dispatcher.queue_cv
        return len(waiting._waiting) == THREADS

    def connect(self) -> socket.socket:
        connection = socket.create_connection(self.address, timeout=PATIENCE)
        self.addCleanup(connection.close)
        return connection

    def answer(self, connection: socket.socket) -> str:
        return connection.recv(1 << 16).decode("latin-1").split("\r\n")[0]

    def ask(self) -> str:
        connection = self.connect()
        connection.sendall(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
        return self.answer(connection)

    def ask_again(self, connection: socket.socket, path: str = "/", times: int = 1, slowly: Any = None) -> None:
        """Ask on a connection that stays, so many times at once, and take the answers, once `slowly` holds."""
        connection.sendall(f"GET {path} HTTP/1.1\r\nHost: x\r\n\r\n".encode() * times)
        if slowly is not None:
            wait_until(lambda: slowly)
        body = self.planes if path == "/planes" else b"ok"
        got = bytearray()
        while got.count(b"\r\n\r\n" + body) < times:
            got += connection.recv(1 << 20)
        self.assertEqual(got.count(b"HTTP/1.1 200 OK"), times)

    def test_half_sent_requests_and_idle_connections_keep_nobody_waiting(self) -> None:
        with mock.patch.object(front, "HEADER_SECONDS", 60):
            for number in range(120):
                connection = self.connect()
                if number % 3:
                    connection.sendall(
                        b"POST /x HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\nabc"[: 20 + number % 60]
                    )
            for _ in range(5):
                self.assertEqual(self.ask(), "HTTP/1.1 200 OK")

    def test_the_loop_is_woken_for_an_answer_only_where_something_is_left_to_do(self) -> None:
        woken: list[int] = []
        wake = self.server.pull_trigger

        def count() -> None:
            woken.append(1)
            wake()

        with mock.patch.object(self.server, "pull_trigger", count):
            # It comes round for what clients send, and for nothing else.
            self.looks_seconds = 60.0
            connection = self.connect()
            self.ask_again(connection)
            wait_until(self.at_rest)
            woken.clear()
            for _ in range(20):
                self.ask_again(connection, "/watched")
                # Else the next one is read while its thread is still at the end of this one.
                wait_until(self.at_rest)
            self.assertEqual(woken, [])
            # What a slow client has not taken yet is sent by the loop.
            self.ask_again(connection, "/planes", slowly=woken)
            self.looks_seconds = 0.05
            # Its end is told by the loop itself.
            self.ask()

    def test_who_asks_again_is_heard_without_the_loop_coming_round_by_itself(self) -> None:
        # It waits for longer than this client does: whom it does not watch is not answered.
        self.looks_seconds = 60.0
        connection = self.connect()
        for number in range(60):
            self.ask_again(connection, "/planes" if number % 3 == 2 else "/")
            # While more of them are answered than are read ahead, the loop does not watch who asks.
            self.ask_again(connection, times=3)
        self.looks_seconds = 0.05
        # Its end is told by the loop itself.
        self.ask()

    def test_planes_go_out_whole_from_where_they_lie_also_to_a_slow_client(self) -> None:
        connection = self.connect()
        connection.sendall(b"GET /planes HTTP/1.1\r\nHost: x\r\n\r\n" * 2 + b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
        wanted = 2 * len(self.planes)
        got = bytearray()
        while len(got) < wanted or not got.endswith(b"ok"):
            if len(got) < 3_000_000:
                time.sleep(0.02)
            got += connection.recv(1 << 17)
        heads = got.replace(self.planes, b"|")
        self.assertEqual(heads.count(b"|"), 2)
        self.assertEqual(heads.count(b"200 OK"), 3)

    def test_planes_are_bytes_to_every_kind_of_server(self) -> None:
        response = Samples()
        response.content = memoryview(self.planes)
        for _ in range(2):
            pieces = list(response)
            self.assertEqual({type(piece) for piece in pieces}, {bytes})
            self.assertEqual(b"".join(pieces), self.planes)
        self.assertEqual(response.content, self.planes)
        self.assertIs(type(response.file_to_stream.read(5)), bytes)

    def test_what_takes_too_long_to_arrive_is_closed(self) -> None:
        for start in (b"GET / HT", b"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 10\r\n\r\nab"):
            connection = self.connect()
            connection.sendall(start)
            self.assertEqual(connection.recv(100), b"")
        self.assertEqual(self.bodies, [])

    def test_one_after_the_other_is_served_by_one_thread(self) -> None:
        for _ in range(8):
            # A thread is done a moment after its answer is here.
            wait_until(self.at_rest)
            self.assertEqual(self.ask(), "HTTP/1.1 200 OK")
        self.assertEqual(len(set(self.threads)), 1)

    def test_many_at_once_wait_for_a_thread_in_their_order(self) -> None:
        waiting = [self.connect() for _ in range(THREADS)]
        for connection in waiting:
            connection.sendall(b"GET /wait HTTP/1.1\r\nHost: x\r\n\r\n")
        wait_until(lambda: len(self.asked) == THREADS)
        later = {f"/{number}": self.connect() for number in range(3)}
        for number, (path, connection) in enumerate(later.items()):
            connection.sendall(f"GET {path} HTTP/1.1\r\nHost: x\r\n\r\n".encode())
            wait_until(lambda number=number: len(self.server.task_dispatcher.queue) > number)
        self.assertEqual((self.asked, len(set(self.threads))), (["/wait"] * THREADS, THREADS))
        # One thread is free, and serves them all.
        waiting[0].close()
        for connection in later.values():
            self.assertEqual(self.answer(connection), "HTTP/1.1 200 OK")
        self.assertEqual(self.asked[THREADS:], [*later])
        waiting[1].close()

    def test_whoever_holds_fewest_connections_takes_the_next(self) -> None:
        first = front.Held(3)
        second, third = first.of(1), first.of(2)
        self.assertTrue(all(each.fewest(0) for each in (first, second, third)))
        self.assertFalse(first.fewest(1))
        self.assertTrue(second.fewest(0))
        self.assertFalse(second.fewest(2))
        self.assertFalse(first.fewest(1))
        self.assertTrue(third.fewest(0))
        self.assertFalse(third.fewest(2))
        self.assertTrue(first.fewest(1))
        self.assertTrue(front.Held(1).fewest(1000))

    def test_connections_wait_for_the_process_that_holds_fewest_but_not_for_ever(self) -> None:
        kept = self.connect()
        kept.sendall(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
        self.assertEqual(self.answer(kept), "HTTP/1.1 200 OK")
        here = front.Held(2)
        self.server.held = here
        # The loop may just wait for whoever comes.
        self.come_round()
        with mock.patch.object(front, "PATIENCE_SECONDS", 60):
            connection = self.connect()
            connection.settimeout(0.3)
            connection.sendall(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
            self.assertRaises(TimeoutError, connection.recv, 100)
            here.of(1).fewest(5)
            connection.settimeout(PATIENCE)
            self.assertEqual(self.answer(connection), "HTTP/1.1 200 OK")
            here.of(1).fewest(0)
            self.come_round()
            second = self.connect()
            second.settimeout(0.3)
            second.sendall(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
            self.assertRaises(TimeoutError, second.recv, 100)
        # The other one does not come for it.
        second.settimeout(PATIENCE)
        self.assertEqual(self.answer(second), "HTTP/1.1 200 OK")

    def test_where_nothing_happens_the_loop_rests(self) -> None:
        listening = socket.create_server(("127.0.0.1", 0))
        listening.setblocking(False)
        server = front.server_for(self.application, listening, threads=1)
        rounds: list[float] = []

        def readable() -> bool:
            rounds.append(time.monotonic())
            if self.ended.is_set():
                raise SystemExit
            return True

        with mock.patch.object(server, "readable", readable):
            thread = threading.Thread(target=server.run, daemon=True)
            thread.start()
            wait_until(lambda: len(rounds) >= 5)
            self.ended.set()
            thread.join(PATIENCE)
        server.close()
        self.assertFalse(thread.is_alive())
        # It waits for as long as it is told, or longer where the machine is slow.
        self.assertGreater(rounds[4] - rounds[1], 2.9 * front.LOOP_SECONDS)

    def test_a_slow_but_steady_body_arrives(self) -> None:
        # Long beyond the time of a head that never came to its end, by the time that each byte gives it.
        with mock.patch.object(front, "LEAST_RATE", 0.05):
            connection = self.connect()
            connection.sendall(b"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 6\r\n\r\nx")
            for _ in range(5):
                time.sleep(0.25)
                connection.sendall(b"x")
            self.assertEqual(self.answer(connection), "HTTP/1.1 200 OK")
        self.assertEqual(self.bodies, [6])

    def test_what_is_late_is_told_by_what_has_arrived(self) -> None:
        parser = front.Parser(self.server.adj)
        parser.began = 100.0
        with mock.patch.multiple(front, HEADER_SECONDS=20, LEAST_RATE=20_000):
            self.assertFalse(parser.late(120))
            self.assertTrue(parser.late(120.1))
            parser.received(b"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 90000\r\n\r\n")
            parser.received(bytes(40_000))
            self.assertFalse(parser.late(122))
            self.assertTrue(parser.late(122.1))

    def head(self, size: int, ticket: str = "") -> bytes:
        lines = [f"POST {UPLOAD} HTTP/1.1", "Host: x", f"Content-Length: {size}", f"X-Nexal-Upload: {ticket}"]
        return "\r\n".join([*lines, "", ""]).encode()

    @override_settings(DATA_UPLOAD_MAX_MEMORY_SIZE=1000)
    def test_a_large_body_needs_a_ticket_before_it_is_read(self) -> None:
        size = FORM_BYTES + 5000
        good = signing.dumps([7, 1, 5000], salt=SALT)
        for ticket in (
            "",
            "made-up",
            signing.dumps([8, 1, 5000], salt=SALT),
            signing.dumps([7, 1, 5000], salt="other"),
        ):
            connection = self.connect()
            connection.sendall(self.head(size, ticket))
            self.assertIn("413", self.answer(connection))
        self.assertEqual(self.bodies, [])
        connection = self.connect()
        connection.sendall(self.head(size - 1, good) + bytes(size - 1))
        self.assertEqual(self.answer(connection), "HTTP/1.1 200 OK")
        self.assertEqual(self.bodies, [size - 1])

    @override_settings(DATA_UPLOAD_MAX_MEMORY_SIZE=1000)
    def test_a_ticket_is_for_one_shot_one_route_and_a_while(self) -> None:
        small = 1000 + FORM_BYTES
        ticket = signing.dumps([7, 1, 5000], salt=SALT)
        self.assertEqual(largest_body("POST", UPLOAD, ticket), 5000 + FORM_BYTES)
        self.assertEqual(largest_body("POST", f"{UPLOAD}/reassembled", ticket), 5000 + FORM_BYTES)
        for method, path in (("PUT", UPLOAD), ("POST", "/api/shots/8/sources"), ("POST", "/api/shots/7/view")):
            self.assertEqual(largest_body(method, path, ticket), small)
        with mock.patch("sources.tickets.MAX_AGE", -1):
            self.assertEqual(largest_body("POST", UPLOAD, ticket), small)

    def test_an_application_sees_that_its_client_is_gone(self) -> None:
        connection = self.connect()
        connection.sendall(b"GET /wait HTTP/1.1\r\nHost: x\r\n\r\n")
        wait_until(lambda: self.bodies)
        connection.close()
        self.assertTrue(self.saw_hang_up.wait(PATIENCE))

    def test_clients_that_do_not_read_hold_no_thread(self) -> None:
        def large(environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
            start_response("200 OK", [])
            return [b"x" * 12_000_000]

        self.server.application = large
        for _ in range(6):
            self.connect().sendall(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
        time.sleep(0.5)
        self.assertEqual(self.ask(), "HTTP/1.1 200 OK")
