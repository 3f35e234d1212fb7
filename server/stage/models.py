"""Slow results on their way, for every process of the server to see."""

from django.db import models


class SlowState(models.TextChoices):
    WAITING = "waiting"
    WORKING = "working"
    DONE = "done"
    STOPPED = "stopped"
    FAILED = "failed"


class SlowResult(models.Model):
    """A slow step's result that somebody wants: how it is asked for, who wants it, how far it is.

    Or the answer to a `question` that takes long, such as an audit of many layers.
    """

    shot = models.ForeignKey("projects.Shot", on_delete=models.CASCADE, related_name="slow_results")
    item = models.CharField(max_length=63)
    digest = models.CharField(max_length=64)
    recipe = models.JSONField()
    frame = models.IntegerField(default=1)
    wanted_by = models.JSONField(default=list)
    state = models.CharField(max_length=10, choices=SlowState.choices, default=SlowState.WAITING)
    done = models.FloatField(default=0)
    problem = models.JSONField(default=dict)
    question = models.JSONField(default=dict)
    answer = models.JSONField(default=dict)
    updated = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["pk"]
        constraints = [models.UniqueConstraint(fields=["shot", "digest"], name="slow_results_differ")]
