"""Every failure in one shape: code, message, where, remedy."""

import logging
from typing import Any

from django.core.exceptions import BadRequest, RequestDataTooBig, SuspiciousOperation
from django.db import OperationalError
from django.http import Http404, HttpRequest, HttpResponse
from django.http.multipartparser import MultiPartParserError
from ninja import Field, NinjaAPI, Schema
from ninja.errors import AuthenticationError, HttpError, ValidationError

from config.bodies import FAULT
from nexal.errors import NO_ROOM, DiskError, NexalError

log = logging.getLogger("nexal")


class Problem(Schema):
    """What went wrong, where, and what to do."""

    code: str
    message: str
    where: str = ""
    remedy: str = ""
    also: list[str] = Field([], description="What else is wrong beside it, a line each")


def problem_of(error: NexalError) -> Problem:
    """An error of the core as the interface tells it."""
    return Problem(
        code=error.code,
        message=error.message,
        where=error.where,
        remedy=error.remedy,
        also=[str(other) for other in error.also],
    )


SIGNED_OUT = {"code": "signed_out", "message": "you are not signed in", "remedy": "sign in"}
NOT_FOUND = {
    "code": "not_found",
    "message": "there is nothing here, or it is not yours to see",
    "remedy": "check the address, or ask the project's owner",
}

STATUS = {"cancelled": 202, "pending": 202, "disk": 507, "too_much": 413}
"""HTTP status by an error's code, where it is not 422. What is computed yet, or was given up for something newer, is
nothing wrong: it was understood, and there is no result now."""
DATABASE_FULL = (1021, 1041, 1114)
"""What MariaDB calls a disk, or a table, without room."""
DATABASE_GONE = (1040, 1053, 2002, 2003, 2006, 2013)
"""What it calls being stopped, unreachable, or asked by too many."""


class Refused(NexalError):
    """A request that is understood and refused, with its HTTP status."""

    def __init__(self, status: int, code: str, message: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(message, where=where, remedy=remedy)
        self.status = status
        self.code = code


def answer(api: NinjaAPI, request: HttpRequest, status: int, **problem: Any) -> HttpResponse:
    return _told(api, request, status, Problem.model_validate(problem))


def _told(api: NinjaAPI, request: HttpRequest, status: int, problem: Problem) -> HttpResponse:
    # Nothing else being wrong is not worth a word.
    return api.create_response(request, problem.dict(exclude=set() if problem.also else {"also"}), status=status)


def install(api: NinjaAPI) -> None:
    """Give an API the handlers that put every error into the one shape."""

    @api.exception_handler(NexalError)
    def _own(request: HttpRequest, error: NexalError) -> HttpResponse:
        status = error.status if isinstance(error, Refused) else STATUS.get(error.code, 422)
        return _told(api, request, status, problem_of(error))

    @api.exception_handler(ValidationError)
    def _invalid(request: HttpRequest, error: ValidationError) -> HttpResponse:
        fault = error.errors[0]
        where = ".".join(str(part) for part in fault["loc"][1:])
        return answer(
            api, request, 422, code="request", message=fault["msg"], where=where, remedy="correct the request"
        )

    @api.exception_handler(AuthenticationError)
    def _nobody(request: HttpRequest, error: AuthenticationError) -> HttpResponse:
        return answer(api, request, 401, **SIGNED_OUT)

    @api.exception_handler(Http404)
    def _missing(request: HttpRequest, error: Http404) -> HttpResponse:
        return answer(api, request, 404, **NOT_FOUND)

    @api.exception_handler(HttpError)
    def _http(request: HttpRequest, error: HttpError) -> HttpResponse:
        fault = getattr(request, FAULT, "")
        if fault:
            return answer(api, request, 422, code="request", message=fault, remedy="correct the request")
        return answer(api, request, error.status_code, code="request", message=str(error), remedy="correct the request")

    @api.exception_handler(BadRequest)
    @api.exception_handler(SuspiciousOperation)
    @api.exception_handler(MultiPartParserError)
    def _form(request: HttpRequest, error: Exception) -> HttpResponse:
        message = f"the form cannot be read: {error}"[:300]
        return answer(api, request, 422, code="request", message=message, remedy="send fewer files, or send them anew")

    @api.exception_handler(RequestDataTooBig)
    def _large(request: HttpRequest, error: RequestDataTooBig) -> HttpResponse:
        return answer(
            api, request, 413, code="too_large", message="the request is too large", remedy="send less at a time"
        )

    @api.exception_handler(OSError)
    def _system(request: HttpRequest, error: OSError) -> HttpResponse:
        if error.errno in NO_ROOM:
            return _own(request, DiskError("this cannot be kept"))
        return _unforeseen(request, error)

    @api.exception_handler(OperationalError)
    def _database(request: HttpRequest, error: OperationalError) -> HttpResponse:
        code = error.args[0] if error.args else 0
        if code in DATABASE_FULL:
            return _own(request, DiskError("this cannot be saved"))
        log.error("the database at %s: %s", request.path, error)
        if code not in DATABASE_GONE:
            return _unforeseen(request, error)
        return answer(
            api,
            request,
            503,
            code="unavailable",
            message="the database does not answer",
            remedy="your work is kept in the browser; it is tried again",
        )

    @api.exception_handler(Exception)
    def _unforeseen(request: HttpRequest, error: Exception) -> HttpResponse:
        log.exception("unforeseen error at %s", request.path)
        return answer(
            api,
            request,
            500,
            code="internal",
            message="something went wrong on the server",
            where=request.path,
            remedy="try again; if it happens again, report it with the server's log",
        )
