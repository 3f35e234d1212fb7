"""No server without a secret key of its own: with one that others know, anybody signs in as anybody."""

from django.conf import settings
from django.core.exceptions import ImproperlyConfigured

LEAST_LETTERS = 32


def check_secret() -> None:
    """Raises SystemExit, which says what to do, where there is no secret key or one that can be guessed."""
    try:
        letters = len(settings.SECRET_KEY)
    except ImproperlyConfigured:
        letters = 0
    if letters < LEAST_LETTERS:
        found = f"the secret key has {letters} characters" if letters else "there is no secret key"
        raise SystemExit(
            f"nexal: {found}; set NEXAL_SECRET_KEY to {LEAST_LETTERS} or more characters that nobody else knows, "
            f"or write them to {settings.VAR / 'secret_key'}; ./run does it by itself"
        )
