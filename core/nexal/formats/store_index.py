"""What lies in a plane store, how large it is and when it was used: known without walking through its folders.

A small SQLite database, shared by all processes of a machine. It is a cache of what the folders hold: where it is
missing or damaged it is made anew from them.
"""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Iterable
from contextlib import suppress
from pathlib import Path
from typing import TypeVar

from nexal.formats.locks import held

Result = TypeVar("Result")

WAIT_SECONDS = 30.0
"""How long a process waits for another one that writes."""
_SCHEMA = """
CREATE TABLE IF NOT EXISTS entries (digest TEXT PRIMARY KEY, bytes INTEGER NOT NULL, used REAL NOT NULL) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS entries_by_use ON entries (used);
CREATE TABLE IF NOT EXISTS total (only INTEGER PRIMARY KEY CHECK (only = 0), bytes INTEGER NOT NULL, whole INTEGER);
INSERT OR IGNORE INTO total VALUES (0, 0, 0);
CREATE TRIGGER IF NOT EXISTS entry_added AFTER INSERT ON entries
  BEGIN UPDATE total SET bytes = bytes + new.bytes; END;
CREATE TRIGGER IF NOT EXISTS entry_changed AFTER UPDATE OF bytes ON entries
  BEGIN UPDATE total SET bytes = bytes + new.bytes - old.bytes; END;
CREATE TRIGGER IF NOT EXISTS entry_removed AFTER DELETE ON entries
  BEGIN UPDATE total SET bytes = bytes - old.bytes; END;
"""


class StoreIndex:
    """Entries by digest. Safe between threads and processes of one machine.

    `found` lists what the folders hold, each with its bytes and the time of its last use; it is asked once for each
    index that is made.
    """

    def __init__(self, path: Path, found: Callable[[], Iterable[tuple[str, int, float]]]) -> None:
        self._path = path
        self._found = found
        self._lock = threading.Lock()
        self._connection: sqlite3.Connection | None = None
        self._number = 0

    def total(self) -> int:
        """Bytes of all entries."""
        return self._run(lambda db: int(db.execute("SELECT bytes FROM total").fetchone()[0]))

    def count(self) -> int:
        return self._run(lambda db: int(db.execute("SELECT COUNT(*) FROM entries").fetchone()[0]))

    def put(self, digest: str, size: int, used: float) -> None:
        """An entry was made, has another size, or was used."""
        self._run(
            lambda db: db.execute(
                "INSERT INTO entries VALUES (?, ?, ?) "
                "ON CONFLICT (digest) DO UPDATE SET bytes = excluded.bytes, used = max(used, excluded.used)",
                (digest, size, used),
            )
        )

    def unused(self, since: float, most: int) -> list[tuple[str, int]]:
        """Entries that were not used since a time, with their bytes; those used longest ago first."""
        return self._run(
            lambda db: db.execute(
                "SELECT digest, bytes FROM entries WHERE used <= ? ORDER BY used LIMIT ?", (since, most)
            ).fetchall()
        )

    def take_out(self, digest: str, since: float) -> bool:
        """Forget an entry, unless it was used after that time; whether it was there and is forgotten."""
        return self._run(
            lambda db: db.execute("DELETE FROM entries WHERE digest = ? AND used <= ?", (digest, since)).rowcount > 0
        )

    def compare(self) -> None:
        """Bring the index to what the folders hold."""
        self._run(self._fill)

    def close(self) -> None:
        with self._lock:
            self._leave()

    def _run(self, work: Callable[[sqlite3.Connection], Result]) -> Result:
        with self._lock:
            if self._connection is not None and self._number != _number(self._path):
                # Its file was taken away: what is written to it would be seen by nobody.
                self._leave()
            try:
                return work(self._opened())
            except sqlite3.OperationalError:
                raise
            except sqlite3.DatabaseError:
                # Damaged; all that it knew is in the folders.
                self._leave()
                with held(self._guard):
                    for suffix in ("", "-wal", "-shm"):
                        self._path.with_name(self._path.name + suffix).unlink(missing_ok=True)
                return work(self._opened())

    @property
    def _guard(self) -> Path:
        return self._path.with_name(f"{self._path.name}.opening")

    def _opened(self) -> sqlite3.Connection:
        if self._connection is not None:
            return self._connection
        # One after the other: how a new database keeps its journal is decided by one of its users.
        with held(self._guard):
            connection = sqlite3.connect(
                self._path, timeout=WAIT_SECONDS, isolation_level=None, check_same_thread=False
            )
            connection.execute("PRAGMA journal_mode = WAL")
            # After a crash of the machine it is made anew: nothing has to reach the disk before it goes on.
            connection.execute("PRAGMA synchronous = OFF")
            connection.executescript(_SCHEMA)
            if not connection.execute("SELECT whole FROM total").fetchone()[0]:
                self._fill(connection)
        self._connection, self._number = connection, _number(self._path)
        return connection

    def _leave(self) -> None:
        if self._connection is not None:
            with suppress(sqlite3.Error):
                self._connection.close()
        self._connection = None

    def _fill(self, connection: sqlite3.Connection) -> None:
        rows = list(self._found())
        connection.execute("BEGIN IMMEDIATE")
        try:
            known = {digest for (digest,) in connection.execute("SELECT digest FROM entries")}
            gone = known - {digest for digest, _, _ in rows}
            connection.executemany("DELETE FROM entries WHERE digest = ?", [(digest,) for digest in gone])
            connection.executemany(
                "INSERT INTO entries VALUES (?, ?, ?) ON CONFLICT (digest) DO UPDATE SET bytes = excluded.bytes", rows
            )
            connection.execute("UPDATE total SET whole = 1")
            connection.execute("COMMIT")
        except BaseException:
            connection.execute("ROLLBACK")
            raise


def _number(path: Path) -> int:
    """The number of a file on its disk; 0 where it is not there."""
    with suppress(FileNotFoundError):
        return path.stat().st_ino
    return 0
