"""Deliverables, their renders, and the frames of those."""

from django.conf import settings
from django.db import models


class RenderState(models.TextChoices):
    WAITING = "waiting"
    RENDERING = "rendering"
    DONE = "done"
    FAILED = "failed"
    PAUSED = "paused"
    CANCELLED = "cancelled"


UNFINISHED = (RenderState.WAITING, RenderState.RENDERING)
STOPPED = (RenderState.PAUSED, RenderState.CANCELLED)


class Deliverable(models.Model):
    """A result to be written: which item, file name, format, depth, alpha (a recipe's output)."""

    shot = models.ForeignKey("projects.Shot", on_delete=models.CASCADE, related_name="deliverables")
    name = models.CharField(max_length=63)
    spec = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["created", "pk"]
        constraints = [models.UniqueConstraint(fields=["shot", "name"], name="deliverable_names_differ")]


class Render(models.Model):
    """A deliverable made from one revision, as it was asked for: a later change of the deliverable leaves it alone."""

    deliverable = models.ForeignKey(Deliverable, on_delete=models.CASCADE, related_name="renders")
    revision = models.ForeignKey("recipes.Revision", on_delete=models.PROTECT, related_name="renders")
    spec = models.JSONField(default=dict)
    after = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="+")
    """The earlier render whose frames are taken over where they would come out the same."""
    written = models.TextField(blank=True, default="")
    """What its files hold, in one line."""
    state = models.CharField(max_length=10, choices=RenderState.choices, default=RenderState.WAITING)
    first_frame = models.IntegerField(default=1)
    last_frame = models.IntegerField(default=1)
    step = models.IntegerField(default=1)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created = models.DateTimeField(auto_now_add=True)
    movie_state = models.CharField(max_length=10, choices=RenderState.choices, blank=True, default="")
    """Of the movie of its frames, for review; empty where none is wanted."""
    movie_rate = models.FloatField(default=24)
    movie_numbers = models.BooleanField(default=True)
    """Whether each frame's number is seen in it."""
    movie_problem = models.JSONField(default=dict)

    class Meta:
        ordering = ["-created", "-pk"]


class RenderedFrame(models.Model):
    """One frame of a render."""

    render = models.ForeignKey(Render, on_delete=models.CASCADE, related_name="frames")
    frame = models.IntegerField()
    state = models.CharField(max_length=10, choices=RenderState.choices, default=RenderState.WAITING)
    error = models.JSONField(default=dict)
    warnings = models.JSONField(default=list)
    """What was told while it was made."""
    seconds = models.FloatField(default=0)
    file = models.CharField(max_length=300, blank=True)

    class Meta:
        ordering = ["frame"]
        constraints = [models.UniqueConstraint(fields=["render", "frame"], name="frames_differ")]
