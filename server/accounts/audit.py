"""The log of what was done about people and their rights."""

from django.http import HttpRequest

from accounts.models import Deed
from config.clients import address_of


def note(request: HttpRequest, sentence: str, who: str = "") -> None:
    """Write down what the signed-in person, or who is named, has done."""
    Deed.objects.create(
        who=who or request.user.get_username(), sentence=sentence[:500], address=address_of(request)[:64]
    )
