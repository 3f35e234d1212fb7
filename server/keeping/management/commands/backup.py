"""`manage.py backup FILE`: all that people have made in one archive, while they work."""

from argparse import ArgumentParser
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from keeping.archive import back_up, check, told
from nexal.errors import NexalError


class Command(BaseCommand):
    """Write an archive of the database and the originals, or see whether one is whole."""

    help = __doc__

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("file", type=Path)
        parser.add_argument("--check", action="store_true", help="only see whether the archive is whole")

    def handle(self, *args: Any, **options: Any) -> None:
        path: Path = options["file"].absolute()
        try:
            manifest = check(path) if options["check"] else back_up(path, self.stderr.write)
        except NexalError as error:
            raise CommandError(str(error)) from None
        self.stdout.write(f"{path} is whole")
        for line in told(manifest):
            self.stdout.write(f"  {line}")
