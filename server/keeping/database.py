"""The whole database as a text of SQL: written while people work, read back into an empty one."""

import gzip
import os
import shutil
import subprocess
from contextlib import suppress
from pathlib import Path
from typing import IO, Any

from django.db import OperationalError, connection

from nexal.errors import NexalError

PATIENCE_SECONDS = 20
"""How long is waited for those who use a table that is to go."""


class KeepingError(NexalError):
    """Something that cannot be kept, or brought back."""

    code = "keeping"


def _command(program: str, *more: str) -> tuple[list[str], dict[str, str]]:
    """A client program's command line for the database in use, and its environment. Raises KeepingError."""
    found = shutil.which(program)
    if found is None:
        raise KeepingError(f"the program {program} is missing", remedy="install the package mariadb-client")
    known: dict[str, Any] = connection.settings_dict
    place = [f"--host={known['HOST']}", f"--port={known['PORT']}", "--protocol=tcp", f"--user={known['USER']}"]
    # A password on the command line is seen by everybody on the machine.
    environment = {**os.environ, "MYSQL_PWD": str(known["PASSWORD"])}
    command = [found, "--no-defaults", *place, "--default-character-set=utf8mb4", *more, str(known["NAME"])]
    return command, environment


def _pipe(end: IO[bytes] | None) -> IO[bytes]:
    assert end is not None
    return end


def dump(to: Path) -> None:
    """Write the database as it is at one moment, compressed; whoever works is not held up. Raises KeepingError."""
    # Rows of one moment, without locks; nothing that only an administrator of the database may see.
    command, environment = _command("mariadb-dump", "--single-transaction", "--quick", "--no-tablespaces", "--hex-blob")
    with (
        gzip.open(to, "wb", compresslevel=6) as file,
        subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as running,
    ):
        shutil.copyfileobj(_pipe(running.stdout), file, 1 << 20)
        said = _pipe(running.stderr).read().decode(errors="replace").strip()
    if running.returncode:
        raise KeepingError(f"the database could not be written: {said[:400]}", remedy="see that it runs: ./run status")


def empty() -> None:
    """Drop every table, or, where somebody uses one, none. Raises KeepingError."""
    with connection.cursor() as cursor:
        tables = [connection.ops.quote_name(table) for table in connection.introspection.table_names(cursor)]
        if not tables:
            return
        cursor.execute("SET FOREIGN_KEY_CHECKS=0, SESSION lock_wait_timeout=%s", [PATIENCE_SECONDS])
        try:
            # All of them first: none is gone before it is known that each can go.
            cursor.execute(f"LOCK TABLES {', '.join(f'{table} WRITE' for table in tables)}")
            cursor.execute(f"DROP TABLE {', '.join(tables)}")
        except OperationalError as error:
            raise KeepingError(
                f"the database is in use: {error}", remedy="./run stop, and end other commands that use it"
            ) from error
        finally:
            cursor.execute("UNLOCK TABLES")
            cursor.execute("SET FOREIGN_KEY_CHECKS=1, SESSION lock_wait_timeout=DEFAULT")


def load(dumped: Path) -> None:
    """Read what was dumped into an empty database. Raises KeepingError, and leaves nothing whole then."""
    command, environment = _command("mariadb")
    with (
        gzip.open(dumped, "rb") as file,
        subprocess.Popen(command, env=environment, stdin=subprocess.PIPE, stderr=subprocess.PIPE) as running,
    ):
        # Where it gives up reading, it says why.
        with suppress(BrokenPipeError):
            shutil.copyfileobj(file, _pipe(running.stdin), 1 << 20)
            _pipe(running.stdin).close()
        said = _pipe(running.stderr).read().decode(errors="replace").strip()
    if running.returncode:
        raise KeepingError(f"the database could not be read back: {said[:400]}", remedy="try again, or report this")
