"""Routes: notes on a shot, on an item, or at a place of its picture; answered and marked done.

Whoever sees a shot may say something about it: a note changes nothing of the work.
"""

from datetime import datetime

from django.db import transaction
from django.http import Http404, HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Field, Router, Schema
from pydantic import model_validator

from config.errors import Refused
from nexal.recipe import FrameNumber
from notes import services
from notes.models import Note
from projects.access import get_shot, may_write, person, role_in
from projects.models import Role, Shot
from projects.news import NOTES, tell

router = Router()

PAGE, LONGEST, FARTHEST = 30, 2000, 1e6


class Words(Schema):
    text: str = Field(max_length=LONGEST)


class NewNote(Words):
    item: str = Field("", max_length=120, description="The source or step that it is about; empty means the shot")
    x: float | None = Field(None, ge=-FARTHEST, le=FARTHEST, description="Full-resolution pixels of its picture")
    y: float | None = Field(None, ge=-FARTHEST, le=FARTHEST)
    frame: FrameNumber | None = None

    @model_validator(mode="after")
    def _whole(self) -> "NewNote":
        if (self.x is None) != (self.y is None) or (self.x is not None and not self.item):
            raise ValueError("a place is x and y of an item's picture")
        return self


class NoteChange(Schema):
    """What is to be another; what is left out stays."""

    text: str | None = Field(None, max_length=LONGEST)
    done: bool | None = None


class AnswerRow(Schema):
    id: int
    author: str = Field(description="Empty where nobody of that name is left")
    mine: bool
    text: str
    created: datetime
    changed: datetime | None


class NoteRow(AnswerRow):
    item: str
    x: float | None
    y: float | None
    frame: int | None
    done: datetime | None
    done_by: str
    answers: list[AnswerRow]


class NotePage(Schema):
    rows: list[NoteRow]
    done: int = Field(description="How many are marked done, shown or not")
    more: bool = Field(description="Whether there are earlier ones")


def _answer(request: HttpRequest, note: Note) -> AnswerRow:
    return AnswerRow(
        id=note.pk,
        author=note.author.shown if note.author else "",
        mine=note.author_id == person(request),
        text=note.text,
        created=note.created,
        changed=note.changed,
    )


def _row(request: HttpRequest, note: Note) -> NoteRow:
    answers = sorted(note.answers.all(), key=lambda each: each.pk)
    return NoteRow(
        **_answer(request, note).dict(),
        item=note.item,
        x=note.x,
        y=note.y,
        frame=note.frame,
        done=note.done,
        done_by=note.done_by.shown if note.done_by else "",
        answers=[_answer(request, each) for each in answers],
    )


def _plain(text: str) -> str:
    """What was said, without blanks around it. Raises Refused where nothing is left."""
    plain = text.strip()
    if not plain:
        raise Refused(422, "empty", "a note says something", where="text", remedy="write what you see")
    return plain


def _note(shot: Shot, note_id: int) -> Note:
    found = Note.objects.filter(shot=shot, pk=note_id).select_related("author", "done_by").first()
    if found is None:
        raise Http404
    return found


@router.get("/shots/{shot_id}/notes", response=NotePage)
def notes(request: HttpRequest, shot_id: int, done: bool = False, before: int | None = None) -> NotePage:
    """The open notes of a shot; or those marked done, a page of them, the newest first."""
    shot = get_shot(request, shot_id)
    every = Note.objects.filter(shot=shot, about=None)
    wanted = every.exclude(done=None) if done else every.filter(done=None)
    if before is not None:
        wanted = wanted.filter(pk__lt=before)
    rows = wanted.select_related("author", "done_by").prefetch_related("answers__author").order_by("-pk")
    page = PAGE if done else services.MOST_OPEN
    found = list(rows[: page + 1])
    return NotePage(
        rows=[_row(request, each) for each in found[:page]],
        done=every.exclude(done=None).count(),
        more=len(found) > page,
    )


@router.post("/shots/{shot_id}/notes", response=NoteRow)
def write_note(request: HttpRequest, shot_id: int, new: NewNote) -> NoteRow:
    """Leave a note. Raises Refused where it is empty, or the shot has too many open ones."""
    shot = get_shot(request, shot_id)
    text = _plain(new.text)
    services.check_room(shot)
    made = Note.objects.create(
        shot=shot, author_id=person(request), text=text, item=new.item, x=new.x, y=new.y, frame=new.frame
    )
    tell(shot.pk, NOTES)
    return _row(request, made)


@router.post("/shots/{shot_id}/notes/{note_id}/answers", response=NoteRow)
def answer_note(request: HttpRequest, shot_id: int, note_id: int, new: Words) -> NoteRow:
    """Answer a note; an answer to an answer belongs to the same note."""
    shot = get_shot(request, shot_id)
    found = _note(shot, note_id)
    about = found.about or found
    text = _plain(new.text)
    services.check_answers(about)
    Note.objects.create(shot=shot, author_id=person(request), text=text, about=about)
    tell(shot.pk, NOTES)
    return _row(request, about)


@router.put("/shots/{shot_id}/notes/{note_id}", response=NoteRow)
def change_note(request: HttpRequest, shot_id: int, note_id: int, change: NoteChange) -> NoteRow:
    """Other words, by who wrote them; done or open again, by who works on the shot or wrote the note."""
    shot = get_shot(request, shot_id)
    found = _note(shot, note_id)
    own = found.author_id == person(request)
    if change.text is not None:
        if not own:
            raise Refused(403, "forbidden", "this note is somebody else's", remedy="answer it instead")
        found.text, found.changed = _plain(change.text), timezone.now()
    if change.done is not None:
        if found.about is not None:
            raise Refused(422, "answer", "an answer is not done by itself", where="done", remedy="mark its note done")
        if not own and not may_write(request, shot):
            raise Refused(403, "forbidden", "who works on the shot says what is done", remedy="answer the note instead")
        if change.done != (found.done is not None):
            found.done = timezone.now() if change.done else None
            found.done_by_id = person(request) if change.done else None
    with transaction.atomic():
        # What another has changed meanwhile stays as they left it.
        fields = ["text", "changed"] if change.text is not None else []
        found.save(update_fields=[*fields, *(["done", "done_by"] if change.done is not None else [])])
        tell(shot.pk, NOTES)
    return _row(request, found.about or found)


@router.delete("/shots/{shot_id}/notes/{note_id}", response={204: None})
def delete_note(request: HttpRequest, shot_id: int, note_id: int) -> HttpResponse:
    """Take a note and its answers away: one's own, or, as an owner of the project, anybody's."""
    shot = get_shot(request, shot_id)
    found = _note(shot, note_id)
    if found.author_id != person(request) and role_in(request, shot.project_id) != Role.OWNER:
        raise Refused(403, "forbidden", "this note is somebody else's", remedy="mark it done instead")
    found.delete()
    tell(shot.pk, NOTES)
    return HttpResponse(status=204)
