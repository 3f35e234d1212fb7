"""`manage.py seed_demo`: a demo user and the Night Conservatory, made once."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.files import File
from django.core.management.base import BaseCommand

from accounts.models import User
from demo.night.generate import generate
from demo.recipes import MARKS, PASSWORD, PROJECT, SHOTS, USERNAME
from nexal.recipe import parse_recipe
from projects.models import Membership, Project, Role, Shot
from recipes.services import first_revision, save
from sources.models import Source, SourceState
from sources.services import import_file


class Command(BaseCommand):
    """Make what is missing of the demo user, project, pictures and shots."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        settings.NEXAL_JOBS = "inline"
        user, created = User.objects.get_or_create(
            username=USERNAME, defaults={"first_name": "Demo", "last_name": "compositor"}
        )
        if created:
            user.set_password(PASSWORD)
            user.save()
        project, _ = Project.objects.get_or_create(name=PROJECT)
        Membership.objects.get_or_create(project=project, user=user, defaults={"role": Role.OWNER})
        missing = [name for name in SHOTS if not Shot.objects.filter(project=project, name=name).exists()]
        if not missing:
            return
        folder = Path(settings.VAR) / "demo"
        self.stdout.write("rendering the Night Conservatory (a minute)")
        generate(folder)
        for name in missing:
            seed_shot(project, name, user.pk, folder)
            self.stdout.write(f"shot {name}")


def seed_shot(project: Project, name: str, author: int, folder: Path) -> Shot:
    """One demo shot with its pictures imported and its recipe as second revision."""
    shot = Shot.objects.create(project=project, name=name, marks=MARKS.get(name, []))
    revision = first_revision(shot, author)
    recipe = parse_recipe(SHOTS[name])
    for spec in recipe.sources.values():
        with (folder / spec.files).open("rb") as file:
            source = import_file(shot, spec.files, File(file, name=spec.files))
        source = Source.objects.get(pk=source.pk)
        if source.state != SourceState.READY:
            raise RuntimeError(f"{spec.files}: {source.problem}")
    save(shot, author, revision.number, recipe)
    return shot
