"""Imported files: single ones, and those of many frames."""

from django.db import models


class SourceState(models.TextChoices):
    WAITING = "waiting"
    READING = "reading"
    READY = "ready"
    FAILED = "failed"


UNFINISHED = (SourceState.WAITING, SourceState.READING)


def _original_name(kept: "Kept", name: str) -> str:
    return f"originals/{kept.shot_pk}/{name}"


class Kept(models.Model):
    """A file that is kept, and unpacked into the plane store under its fingerprint."""

    original = models.FileField(upload_to=_original_name, max_length=300)
    size = models.BigIntegerField()
    fingerprint = models.CharField(max_length=80)
    state = models.CharField(max_length=10, choices=SourceState.choices, default=SourceState.WAITING)
    problem = models.JSONField(default=dict)

    class Meta:
        abstract = True

    @property
    def shot_pk(self) -> int:
        raise NotImplementedError

    @property
    def source_pk(self) -> int:
        """The source that is unpacked, or unpacked again, for its sake."""
        raise NotImplementedError


class Source(Kept):
    """A file of a shot, or many numbered ones. Recipes refer to it by `files`, which never changes and is never used
    again. Of many frames `files` is their pattern, and each is a row of its own: then the state is that of all of them,
    and the fingerprint that of their list."""

    shot = models.ForeignKey("projects.Shot", on_delete=models.CASCADE, related_name="sources")
    files = models.CharField(max_length=200)
    numbered = models.BooleanField(default=False)
    """It has frames: numbered files, or those of a video, which is one file for all of them."""
    rate = models.FloatField(null=True)
    """Frames a second, where the file says so."""
    version = models.PositiveIntegerField(default=1)
    """One more with each time that frames came which differ from those that were there."""
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["created", "pk"]
        constraints = [models.UniqueConstraint(fields=["shot", "files"], name="source_files_differ")]

    @property
    def shot_pk(self) -> int:
        return self.shot_id

    @property
    def source_pk(self) -> int:
        return int(self.pk)


class UsedName(models.Model):
    """The name of a source that was removed: earlier revisions of the shot still mean that one by it."""

    shot = models.ForeignKey("projects.Shot", on_delete=models.CASCADE, related_name="used_names")
    files = models.CharField(max_length=200)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shot", "files"], name="used_names_differ")]


class Frames(models.QuerySet["SourceFrame"]):
    def standing(self, version: int | None = None) -> "Frames":
        """The frame of each number that stands in a version of its source, the newest by default: the last one that
        came up to then."""
        upto = {} if version is None else {"version__lte": version}
        later = SourceFrame.objects.filter(
            source=models.OuterRef("source"), number=models.OuterRef("number"), version__gt=models.OuterRef("version")
        )
        return self.filter(~models.Exists(later.filter(**upto)), **upto)


class SourceFrame(Kept):
    """One file of a source of many, of the version with which it came and of those after it, until another comes."""

    source = models.ForeignKey(Source, on_delete=models.CASCADE, related_name="frames")
    number = models.IntegerField()
    version = models.PositiveIntegerField(default=1)
    """1 for what came where nothing was: all versions have it."""

    objects = Frames.as_manager()

    class Meta:
        ordering = ["number", "version"]
        constraints = [models.UniqueConstraint(fields=["source", "number", "version"], name="frame_versions_differ")]

    @property
    def shot_pk(self) -> int:
        return self.source.shot_id

    @property
    def source_pk(self) -> int:
        return self.source_id


class Manifest(models.Model):
    """The names of a source's ids, from a file that lay beside its picture."""

    source = models.ForeignKey(Source, on_delete=models.CASCADE, related_name="manifests")
    file = models.CharField(max_length=200)
    """As the picture's header calls it."""
    text = models.TextField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["source", "file"], name="manifest_files_differ")]
