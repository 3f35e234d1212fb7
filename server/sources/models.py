"""Imported files."""

from django.db import models


class SourceState(models.TextChoices):
    WAITING = "waiting"
    READING = "reading"
    READY = "ready"
    FAILED = "failed"


def _original_name(source: "Source", name: str) -> str:
    return f"originals/{source.shot_id}/{name}"


class Source(models.Model):
    """A file of a shot. Recipes refer to it by `files`, which never changes and is never used again."""

    shot = models.ForeignKey("projects.Shot", on_delete=models.CASCADE, related_name="sources")
    files = models.CharField(max_length=200)
    original = models.FileField(upload_to=_original_name, max_length=300)
    size = models.BigIntegerField()
    fingerprint = models.CharField(max_length=64)
    state = models.CharField(max_length=10, choices=SourceState.choices, default=SourceState.WAITING)
    problem = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["created", "pk"]
        constraints = [models.UniqueConstraint(fields=["shot", "files"], name="source_files_differ")]
