"""Work that outlives its request, a row for each piece: the truth of what is to be done, whoever does it."""

from django.db import models


class Job(models.Model):
    """One piece of work of a kind, named by a key; it is gone once it is done.

    A server process that works at it holds a lease, which it renews all the while. When the lease runs out (the
    process is gone), any other takes the job up again.
    """

    kind = models.CharField(max_length=40)
    key = models.BigIntegerField()
    worker = models.CharField(max_length=80, blank=True)
    lease = models.DateTimeField(null=True)
    starts = models.PositiveIntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [models.UniqueConstraint(fields=["kind", "key"], name="jobs_differ")]
        indexes = [models.Index(fields=["lease"], name="jobs_by_lease")]
