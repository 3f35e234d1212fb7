"""Revisions: a shot's recipe as it was at one time. They are never changed or deleted by edits."""

from django.conf import settings
from django.db import models


class Revision(models.Model):
    """A whole recipe, what it came from, who made it, and what changed in a sentence."""

    shot = models.ForeignKey("projects.Shot", on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    parent = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="children")
    recipe = models.JSONField()
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    sentence = models.CharField(max_length=300)
    name = models.CharField(max_length=120, blank=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["shot", "number"], name="revision_numbers_differ")]


class Seen(models.Model):
    """The newest revision of a shot that somebody has seen."""

    shot = models.ForeignKey("projects.Shot", on_delete=models.CASCADE, related_name="seen")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    number = models.PositiveIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shot", "user"], name="seen_once_by_each")]
