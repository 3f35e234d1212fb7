"""Words that people group shots by."""

from django.db import models


class Tag(models.Model):
    """A word that a shot is found and grouped by."""

    shot = models.ForeignKey("projects.Shot", on_delete=models.CASCADE, related_name="tags")
    word = models.CharField(max_length=40)

    class Meta:
        ordering = ["word"]
        constraints = [models.UniqueConstraint(fields=["shot", "word"], name="tags_of_a_shot_differ")]
