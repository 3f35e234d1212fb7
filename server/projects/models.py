"""Projects, who may do what in them, and their shots."""

from django.conf import settings
from django.db import models


class Role(models.TextChoices):
    OWNER = "owner"
    ARTIST = "artist"
    VIEWER = "viewer"


class Project(models.Model):
    """A production."""

    name = models.CharField(max_length=120)
    created = models.DateTimeField(auto_now_add=True)
    layouts = models.JSONField(default=list)
    """What the channels of packed textures stand for, beside the program's own: the core's `Layout`s."""
    finishes = models.JSONField(default=list)
    """Sets of values for bays, beside the program's own: the core's `Finish`es."""
    archived = models.BooleanField(default=False)
    """It stands aside, and is worked in as ever."""
    deleted = models.DateTimeField(null=True)
    """Since when it is nowhere to be seen; after a while it is gone for good, with its shots."""
    members = models.ManyToManyField(settings.AUTH_USER_MODEL, through="Membership", related_name="projects")


class Membership(models.Model):
    """A person's role in a project."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="memberships")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="memberships")
    role = models.CharField(max_length=10, choices=Role.choices)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "user"], name="one_role_per_project")]


class ShotState(models.TextChoices):
    """How far a shot is, as people say it is."""

    TODO = "todo"
    WORK = "work"
    REVIEW = "review"
    DONE = "done"


class Shot(models.Model):
    """One picture or frame range worked on; `head` is the revision that it shows now."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="shots")
    name = models.CharField(max_length=120)
    first_frame = models.IntegerField(default=1)
    last_frame = models.IntegerField(default=1)
    own_range = models.BooleanField(default=False)
    """A person set the range; else it is that of the moving sources, and follows them."""
    head = models.ForeignKey("recipes.Revision", null=True, on_delete=models.PROTECT, related_name="+")
    marks = models.JSONField(default=list)
    """Dabs on the picture that tell subject and background apart: dicts of `side`, `x`, `y`, `radius`, `on`."""
    marks_page = models.CharField(max_length=40, blank=True, default="")
    marks_turn = models.BigIntegerField(default=0)
    """Which page sent the marks, and as its how manieth."""
    state = models.CharField(max_length=8, choices=ShotState.choices, default=ShotState.TODO)
    archived = models.BooleanField(default=False)
    """It stands aside, and is worked on as ever."""
    deleted = models.DateTimeField(null=True)
    """Since when it is nowhere to be seen; after a while it is gone for good."""
    deleted_name = models.CharField(max_length=120, blank=True, default="")
    """What it was called: meanwhile another shot may take the name."""
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["project", "name"], name="shot_names_differ")]


class News(models.Model):
    """Something changed in a shot, for whoever looks at it: its id counts up, so that each asks for what came since.

    Old news is cleared; who asks for older is told that everything may have changed.
    """

    shot = models.ForeignKey(Shot, on_delete=models.CASCADE, related_name="news")
    what = models.CharField(max_length=12)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        indexes = [models.Index(fields=["shot", "id"], name="news_of_a_shot")]
