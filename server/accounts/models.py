"""People, and their attempts to sign in."""

from django.contrib.auth.models import AbstractUser
from django.db import models


class User(AbstractUser):
    """A person who signs in by name and password."""

    @property
    def shown(self) -> str:
        """What others see: the full name, or the one that they sign in by."""
        return self.get_full_name() or self.username


class Deed(models.Model):
    """What was done about people and their rights, for an administrator to read. Deeds are never changed."""

    at = models.DateTimeField(auto_now_add=True)
    who = models.CharField(max_length=150)
    """Name that they signed in by; it outlives the account."""
    sentence = models.CharField(max_length=500)
    address = models.CharField(max_length=64, blank=True)

    class Meta:
        ordering = ["-pk"]


class SignInAttempt(models.Model):
    """An attempt that has not succeeded, kept for a while so that guessing passwords is slow."""

    username = models.CharField(max_length=150)
    address = models.CharField(max_length=64)
    device = models.CharField(max_length=32, blank=True)
    """Of a browser in which the person has signed in before."""
    at = models.DateTimeField(auto_now_add=True, db_index=True)

    class Meta:
        indexes = [models.Index(fields=["address", "at"]), models.Index(fields=["device"], name="attempts_by_device")]


class Place(models.Model):
    """A browser that somebody is signed in at, for as long as its session lasts."""

    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="places")
    session = models.CharField(max_length=40, unique=True)
    """Key of the session."""
    address = models.CharField(max_length=64)
    browser = models.CharField(max_length=300, blank=True)
    """What the browser says of itself."""
    since = models.DateTimeField(auto_now_add=True)
    seen = models.DateTimeField(auto_now_add=True)
