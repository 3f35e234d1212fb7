"""Kept chains: steps that a project has a name for."""

from django.conf import settings
from django.db import models


class Chain(models.Model):
    """Steps that belong together, put to use on any shot of the project."""

    project = models.ForeignKey("projects.Project", on_delete=models.CASCADE, related_name="chains")
    name = models.CharField(max_length=120)
    about = models.CharField(max_length=300, blank=True, default="")
    """What it is for, in a sentence."""
    steps = models.JSONField()
    """As a recipe holds them; what they are fed from and do not hold themselves is asked for at use."""
    first = models.JSONField(default=list)
    """The settings that one wants to see first: pairs of a step's name and a setting."""
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["project", "name"], name="chain_names_differ")]
