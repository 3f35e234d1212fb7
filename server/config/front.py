"""The server process: connections of any number and slowness in one loop, requests in threads once they are whole.

    python -m config.front --port 8000 [--host 127.0.0.1] [--workers 1] [--threads 48]

A request reaches a thread when its last byte is here, and its answer is sent by the loop, so that no client holds a
thread by being slow. Bodies larger than forms need a ticket (`sources/tickets.py`), which is looked at before the body
is read. Requests that take longer to arrive than any honest client's are closed.
"""

from __future__ import annotations

import argparse
import copy
import ctypes
import mmap
import os
import select
import signal
import socket
import sys
import threading
import time
import weakref
from types import FrameType
from typing import Any

from waitress.adjustments import Adjustments
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import TcpWSGIServer
from waitress.task import ThreadedTaskDispatcher

from config.database import writes

HEADER_SECONDS = 20
"""How long the head of a request, or a form, may take to arrive."""
LEAST_RATE = 20_000
"""Bytes a second that a body comes with at the least, after that."""
IDLE_SECONDS = 75
PR_SET_PDEATHSIG = 1
CLEANUP_SECONDS = 5
HELD_BYTES, SEND_BYTES = 8 << 20, 1 << 18
"""Bytes of an answer that wait in memory for a slow client, and bytes handed to the system at a time."""
CONNECTIONS = 2_000
LOOP_SECONDS = 0.2
"""How often the loop looks about where nothing happens."""
PATIENCE_SECONDS = 0.1
"""How long a connection waits for the process that holds fewest, which may be busy or stuck."""
GRACE_SECONDS = 6
"""How long the processes of a stopping server have, a few seconds more than they wait for what they work at."""


class Parser(HTTPRequestParser):
    """Knows when its request began, and refuses a body that nobody allowed before it is read."""

    def __init__(self, adj: Any) -> None:
        super().__init__(adj)
        self.began = time.time()

    def parse_header(self, header_plus: bytes) -> None:
        from sources.tickets import largest_body

        super().parse_header(header_plus)
        self.adj = copy.copy(self.adj)
        found: Any = self
        ticket = self.headers.get("X_NEXAL_UPLOAD", "")
        self.adj.max_request_body_size = largest_body(found.command, found.path, ticket)

    def late(self, now: float) -> bool:
        """Whether it has taken too long to arrive."""
        return bool(now - self.began > HEADER_SECONDS + self.body_bytes_received / LEAST_RATE)


class Waker:
    """The server as a channel's thread sees it: its loop is woken only for what it would not see by itself."""

    def __init__(self, server: Any, channel: Channel) -> None:
        # The channel holds this in turn: else neither would go before the next collection.
        self._server, self._channel = server, weakref.proxy(channel)

    def pull_trigger(self) -> None:
        if self._channel.unwatched():
            self._server.pull_trigger()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._server, name)


class Channel(HTTPChannel):
    parser_class = Parser
    _watched = False
    """Whether the loop, when it looked last, began to wait for what the client sends."""

    def __init__(self, server: Any, *given: Any, **more: Any) -> None:
        super().__init__(server, *given, **more)
        waker: Any = Waker(server, self)
        self.server = waker
        # What is not taken at once is cut off anew each time: pieces as large as the system's whole buffer cost twice.
        self.sendbuf_len = min(self.sendbuf_len, SEND_BYTES)

    def readable(self) -> bool:
        # First, so that a thread that asks meanwhile is not told what was so before.
        self._watched = False
        self._watched = answer = bool(super().readable())
        return answer

    def unwatched(self) -> bool:
        """Whether the loop has to look: something is to be sent or closed, or it does not wait for this client."""
        return bool(self.total_outbufs_len or self.will_close or self.close_when_flushed or not self._watched)


class Held:
    """How many connections each of the processes holds that listen at one port, in memory that they share."""

    def __init__(self, processes: int, own: int = 0, counts: Any = None) -> None:
        self.counts = counts or memoryview(mmap.mmap(-1, 8 * processes)).cast("q")
        self.own = own

    def of(self, own: int) -> Held:
        """The same, as the process of that number sees it."""
        return Held(len(self.counts), own, self.counts)

    def fewest(self, count: int) -> bool:
        """Whether no other process holds fewer than this one, which holds so many now."""
        self.counts[self.own] = count
        return count <= min(self.counts)


class Server(TcpWSGIServer):
    channel_class = Channel
    held = Held(1)
    _waits_since = 0.0
    """When it was first seen that somebody waits whom another process should take; 0 where nobody does."""

    def readable(self) -> bool:
        """Whether connections are to be accepted: by whoever holds fewest, and who waits longer than that takes, by
        anybody. Else who is quicker by chance takes most of them, and waits for the interpreter while others idle."""
        channels: Any = self.active_channels
        if not super().readable():
            return False
        fewest = self.held.fewest(len(channels))
        if fewest or not self._somebody_waits():
            self._waits_since = 0.0
            return fewest
        now = time.monotonic()
        self._waits_since = self._waits_since or now
        return now - self._waits_since > PATIENCE_SECONDS

    def _somebody_waits(self) -> bool:
        listening: Any = self.socket
        poll = select.poll()
        poll.register(listening, select.POLLIN)
        return bool(poll.poll(0))

    def maintenance(self, now: Any) -> None:
        super().maintenance(now)
        channels: Any = self.active_channels
        for channel in list(channels.values()):
            request = channel.request
            if request is not None and not channel.requests and request.late(now):
                channel.will_close = True


class LastFirst:
    """What threads wait at for work; the one that came last is woken first. To be used with the lock held.

    Few people are served by few threads then: those whose connection to the database and whose memory are in use.
    """

    def __init__(self, lock: threading.Lock) -> None:
        self._lock = lock
        self._waiting: list[threading.Condition] = []

    def wait(self) -> None:
        own = threading.Condition(self._lock)
        self._waiting.append(own)
        own.wait()

    def notify(self) -> None:
        if self._waiting:
            self._waiting.pop().notify()

    def notify_all(self) -> None:
        while self._waiting:
            self.notify()


def server_for(application: Any, listening: socket.socket, threads: int) -> Server:
    """A server of a WSGI application on a listening socket; `run` serves until SystemExit is raised in its loop."""
    dispatcher: Any = ThreadedTaskDispatcher()
    dispatcher.queue_cv = LastFirst(dispatcher.lock)
    dispatcher.set_thread_count(threads)
    server = Server(
        application,
        map={},
        _sock=listening,
        dispatcher=dispatcher,
        adj=Adjustments(
            sockets=[listening],
            connection_limit=CONNECTIONS,
            channel_timeout=IDLE_SECONDS,
            cleanup_interval=CLEANUP_SECONDS,
            # What a client sends is read on while it waits, so that it is seen when it is gone.
            channel_request_lookahead=1,
            # The planes of a stage wait in memory for who takes them slowly; only what is larger is laid into a file.
            outbuf_overflow=HELD_BYTES,
            asyncore_use_poll=True,
            ident=None,
        ),
        sockinfo=(listening.family, listening.type, None, listening.getsockname()),
        bind_socket=False,
    )
    # Said afterwards: the library cuts what it is told to whole seconds, and a loop that waits for none never rests.
    adjustments: Any = server.adj
    adjustments.asyncore_loop_timeout = LOOP_SECONDS
    return server


def serve(listening: socket.socket, threads: int, held: Held | None = None) -> None:
    """Serve until told to stop; ends the process."""
    from config.wsgi import application
    from jobs.services import runner

    server = server_for(application, listening, threads)
    server.held = held or server.held

    def stop(number: int, frame: FrameType | None) -> None:
        raise SystemExit

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    try:
        # Returns when told to stop, having waited a few seconds for its threads.
        server.run()
    finally:
        runner().stop()
        # Threads may be deep in a kernel; what they make is of no use to anybody.
        os._exit(0)


def main(arguments: list[str]) -> None:
    parser = argparse.ArgumentParser(prog="python -m config.front")
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, default=8000)
    parser.add_argument("--workers", type=int, default=1)
    parser.add_argument("--threads", type=int, default=48)
    chosen = parser.parse_args(arguments)
    os.environ["NEXAL_PROCESSES"] = str(chosen.workers)
    listening = socket.create_server((chosen.host, chosen.port), backlog=512)
    listening.setblocking(False)
    if chosen.workers == 1:
        serve(listening, chosen.threads)
        return
    children: set[int] = set()

    def stop(number: int, frame: FrameType | None) -> None:
        for child in children:
            os.kill(child, signal.SIGTERM)
        threading.Timer(GRACE_SECONDS, os._exit, (1,)).start()

    held = Held(chosen.workers)
    writes.share(chosen.workers)
    for number in range(chosen.workers):
        child = os.fork()
        if child == 0:
            # Alone, it would keep the port from those that are started in its place.
            ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
            writes.count_as(number)
            serve(listening, chosen.threads, held.of(number))
        children.add(child)
    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    # One that dies ends the others: whoever watches this process starts them all again.
    child, status = os.wait()
    children.discard(child)
    stop(0, None)
    while children:
        children.discard(os.wait()[0])
    sys.exit(os.waitstatus_to_exitcode(status))


if __name__ == "__main__":
    main(sys.argv[1:])
