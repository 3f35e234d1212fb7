"""`manage.py first_administrator`: whoever adds everybody else, asked for once."""

import getpass
import os
import sys
from typing import Any

from django.core.management.base import BaseCommand, CommandError
from django.db import transaction

from accounts.models import User
from accounts.services import change_name, set_password, username_of
from config.errors import Refused

NAME, PASSWORD = "NEXAL_ADMIN", "NEXAL_ADMIN_PASSWORD"


class Command(BaseCommand):
    """Make the first administrator of a house that has none: from NEXAL_ADMIN and NEXAL_ADMIN_PASSWORD, else as asked
    for on the terminal. Nothing is printed of the password."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        if User.objects.filter(is_staff=True, is_active=True).exists():
            return
        if name := os.environ.get(NAME):
            self._make(name, os.environ.get(PASSWORD, ""))
        elif sys.stdin.isatty():
            self._ask()
        else:
            raise CommandError(
                f"nobody administers this house yet, and there is no terminal to ask on; set {NAME} and {PASSWORD}"
            )

    def _ask(self) -> None:
        self.stdout.write("Nobody administers this house yet. Whoever does adds the others.")
        while True:
            try:
                name = input("Sign in as: ").strip()
                password = getpass.getpass("Password: ")
                if password != getpass.getpass("Password again: "):
                    raise CommandError("the passwords differ")
                self._make(name, password)
                return
            except EOFError:
                raise CommandError("nobody was named") from None
            except CommandError as error:
                self.stdout.write(f"{error}; try again")

    def _make(self, name: str, password: str) -> None:
        try:
            with transaction.atomic():
                user, _ = User.objects.get_or_create(username=username_of(name))
                user.is_staff = user.is_active = True
                user.save(update_fields=["is_staff", "is_active"])
                if not user.first_name:
                    change_name(user, name)
                set_password(user, password)
        except Refused as error:
            raise CommandError(f"{error.message}; {error.remedy}") from None
        self.stdout.write(f"{name} administers this house")
