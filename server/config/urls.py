"""The interface under /api/, and the application's page for every other address."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.urls import path, re_path
from django.views.decorators.csrf import ensure_csrf_cookie

from config.api import api


@ensure_csrf_cookie
def page(request: HttpRequest) -> HttpResponse:
    """The one page; the browser's router does the rest."""
    response = render(request, "index.html")
    response["Cache-Control"] = "no-cache"
    return response


urlpatterns = [
    path("api/", api.urls),
    re_path(r"^(?!api/|static/).*$", page),
]
