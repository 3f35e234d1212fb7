"""Who a request comes from."""

from django.conf import settings
from django.http import HttpRequest


def address_of(request: HttpRequest) -> str:
    """The client's address: that of the connection, or, where a proxy that NEXAL_PROXIES names holds it, the one that
    the proxy says. Nobody else's word counts: anybody can write the header.
    """
    address = str(request.META.get("REMOTE_ADDR", ""))
    for said in reversed(request.META.get("HTTP_X_FORWARDED_FOR", "").split(",")):
        if address not in settings.NEXAL_PROXIES or not said.strip():
            break
        address = said.strip()
    return address
