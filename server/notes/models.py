"""Notes that people leave each other about a shot."""

from django.conf import settings
from django.db import models


class Note(models.Model):
    """What somebody has to say about a shot, one of its items, or a place in a picture; or an answer to that."""

    shot = models.ForeignKey("projects.Shot", on_delete=models.CASCADE, related_name="notes")
    about = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="answers")
    """The note that this one answers."""
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    text = models.TextField()
    item = models.CharField(max_length=120, blank=True, default="")
    x = models.FloatField(null=True)
    y = models.FloatField(null=True)
    """A place in the item's picture, in full-resolution pixels from its display window's corner."""
    frame = models.IntegerField(null=True)
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(null=True)
    done = models.DateTimeField(null=True)
    done_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        indexes = [models.Index(fields=["shot", "about", "done"], name="notes_of_a_shot")]
