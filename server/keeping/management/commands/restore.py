"""`manage.py restore FILE`: what an archive holds, brought back."""

from argparse import ArgumentParser
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from keeping.archive import restore, told
from nexal.errors import NexalError


class Command(BaseCommand):
    """Put what an archive holds in the place of the database and the originals; what was here is laid aside."""

    help = __doc__

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("file", type=Path)
        parser.add_argument("--replace", action="store_true", help="though there are projects here")

    def handle(self, *args: Any, **options: Any) -> None:
        path: Path = options["file"].absolute()
        try:
            manifest, aside = restore(path, self.stderr.write, replace=options["replace"])
        except NexalError as error:
            raise CommandError(str(error)) from None
        self.stdout.write(f"brought back from {path}")
        for line in told(manifest):
            self.stdout.write(f"  {line}")
        if aside:
            self.stdout.write(f"  what was here lies in {aside}; delete it when you are sure")
        self.stdout.write("  everybody signs in again")
