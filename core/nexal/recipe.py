"""Recipes: sources, ordered steps and outputs, read from JSON and checked."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from nexal.addresses import ITEM_NAME
from nexal.errors import FormatError, NexalError, RecipeError
from nexal.faults import faults_of, worded

DepthKind = Literal["auto", "planar", "radial", "distance", "turned", "inverse", "buffer"]
RoleName = Literal[
    "colour",
    "light",
    "alpha",
    "depth",
    "position",
    "normal",
    "id",
    "coverage",
    "mask",
    "motion",
    "uv",
    "ink",
    "unknown",
]
Beyond = Literal["hold", "loop", "black", "error"]
Missing = Literal["hold", "black", "error"]
MOST_FRAME = 10_000_000
FrameNumber = Annotated[int, Field(ge=-MOST_FRAME, le=MOST_FRAME)]
SourceVersion = Annotated[int, Field(ge=1, le=1_000_000)]
Ports = dict[str, str | list[str]]
FILE_WORDS = ("shot", "layout", "name")
"""What may stand in braces in the file name of an output: the shot (or the recipe's file), the layout that a texture
is packed by, the output's own name."""


MOST_PADDING = 10
"""Digits that a frame's number is filled up to at the most."""
MOST_FILE_NAME = 200
"""Bytes of a file's whole name; what is filled in for the words in braces is cut to it."""
_NUMBER = re.compile(r"%0?(\d*)d|#+")


class Strict(BaseModel):
    """A model that refuses unknown keys."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class SourceSpec(Strict):
    """Where a source's files are and how they are read."""

    files: str = ""
    version: SourceVersion | None = None
    """Of its frames, in a house that keeps those of before; the first where none is given. Files on disks have none."""
    colour: str = "auto"
    read_alpha: Literal["file", "straight", "premultiplied", "matted"] = "file"
    non_finite: Literal["keep", "zero"] = "keep"
    roles: dict[str, RoleName] = Field(default_factory=dict)
    """What layers are, by name, where the guess from their names is wrong; the picture itself is the layer ``."""
    depth: DepthKind = "auto"
    """What its depth measures, where that is not found rightly; see `analysis/depth.py`."""
    nothing: float | None = None
    """The number that its depth holds where nothing is, besides what is infinite or beyond 1e7."""
    offset: FrameNumber = 0
    """Frames by which it is moved later."""
    first: FrameNumber | None = None
    last: FrameNumber | None = None
    """The numbers of its files that it begins and ends with; all that there are, where none are given."""
    before: Beyond = "hold"
    after: Beyond = "hold"
    """What stands before its first and after its last frame."""
    missing: Missing = "hold"
    """What stands for a number between them that is not there; `hold` the nearest earlier."""

    @field_validator("files")
    @classmethod
    def _fits(cls, value: str) -> str:
        return fitting_file(value)

    @model_validator(mode="after")
    def _in_order(self) -> SourceSpec:
        if self.first is not None and self.last is not None and self.first > self.last:
            raise ValueError(f"it would begin at {self.first} and end at {self.last}: its first is after its last")
        return self

    @property
    def numbered(self) -> bool:
        return is_numbered(self.files)


class Step(Strict):
    """One calculation with named inputs and settings."""

    name: str
    op: str
    inputs: Ports = Field(default_factory=dict, alias="in")
    settings: dict[str, Any] = Field(default_factory=dict, alias="set")
    on: bool = True
    note: str = ""


class Output(Strict):
    """A result written to a file; `from` is an address or a destination channel for each of several."""

    source: str | dict[str, str] = Field(alias="from")
    file: str
    format: Literal["exr", "png", "tiff", "tga", "dpx", "jpeg", "hdr"] | None = None
    depth: Literal["half", "float", 8, 10, 16, "8", "10", "16"] | None = None
    alpha: Literal["premultiplied", "straight", "none"] | None = None
    colour: str = "auto"
    compression: str | None = None
    dither: Literal["none", "ordered", "diffusion"] = "none"
    """How values between two codes are spread where 8 bit are written."""
    split: bool = False
    """Each channel in a file of its own, beside a manifest that puts them together again."""

    @field_validator("file")
    @classmethod
    def _inside(cls, value: str) -> str:
        if not value or Path(value).is_absolute() or ".." in Path(value).parts or "\\" in value:
            raise ValueError("a file name below the output folder is wanted, with / between folders and without '..'")
        unknown = [word for word in re.findall(r"{(.*?)}", value) if word not in FILE_WORDS]
        if unknown:
            words = ", ".join(f"{{{word}}}" for word in FILE_WORDS)
            raise ValueError(f"'{{{unknown[0]}}}' stands for nothing in a file name; known are {words}")
        return fitting_file(value)

    @property
    def addresses(self) -> list[str]:
        return [self.source] if isinstance(self.source, str) else list(self.source.values())


class Recipe(Strict):
    """The ordered, named steps of a shot."""

    nexal: Literal[1] = 1
    sources: dict[str, SourceSpec] = Field(default_factory=dict)
    steps: list[Step] = Field(default_factory=list)
    outputs: dict[str, Output] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _names(self) -> Recipe:
        seen = set(self.sources)
        for name in self.sources:
            _check_name(name, "source")
        for step in self.steps:
            _check_name(step.name, "step")
            if step.name in seen:
                raise ValueError(f"the name '{step.name}' is used twice")
            seen.add(step.name)
        return self

    def step(self, name: str) -> Step | None:
        return next((step for step in self.steps if step.name == name), None)

    def items(self) -> list[str]:
        return [*self.sources, *(step.name for step in self.steps)]

    def as_json(self) -> dict[str, Any]:
        return self.model_dump(mode="json", by_alias=True, exclude_defaults=True) | {"nexal": 1}


def _check_name(name: str, kind: str) -> None:
    if not ITEM_NAME.fullmatch(name):
        raise ValueError(
            f"'{name}' is not a name for a {kind}: lower case letters, digits and _, starting with a letter, 63 at most"
        )


def worded_file(file: str, words: Mapping[str, str]) -> str:
    """A file name with its words in braces filled in. Raises FormatError for one that stands for nothing here."""

    def fill(found: re.Match[str]) -> str:
        text = re.sub(r"[^\w.-]+", "_", words.get(found[1], "")).strip("._")
        if not text:
            raise FormatError(
                f"the file name asks for '{found[0]}', and there is none",
                where="'file'",
                remedy="name the layout in the pack step" if found[1] == "layout" else "write the name out",
            )
        return text

    return "/".join(_cut(part) for part in re.sub(r"{(\w+)}", fill, file).split("/"))


def _cut(name: str) -> str:
    """A file name that became too long, without the end of its stem."""
    stem, dot, suffix = name.rpartition(".")
    room = MOST_FILE_NAME - len((dot + suffix).encode())
    return name if len(name.encode()) <= MOST_FILE_NAME else stem.encode()[:room].decode(errors="ignore") + dot + suffix


def is_numbered(files: str) -> bool:
    """Whether a file name is a pattern for numbered frames (`%04d` or `####`)."""
    return bool(_NUMBER.search(Path(files).name))


def numbers_in(pattern: str, names: Iterable[str]) -> tuple[int, ...]:
    """The numbers, in order, of those file names that a pattern stands for."""
    parts = [re.escape(part) for part in re.split(_NUMBER.pattern.replace("(", "(?:"), pattern)]
    listed = set(names)
    matcher = re.compile(r"(-?\d{1,10})".join(parts))
    found = {int(match[1]) for name in listed if (match := matcher.fullmatch(name))}
    return tuple(sorted(number for number in found if numbered_file(pattern, number) in listed))


def fitting_file(files: str) -> str:
    """A file name or pattern that can be one on a disk. Raises ValueError for what is too long, before it is made."""
    if any(_padding(found) > MOST_PADDING for found in _NUMBER.finditer(files)):
        raise ValueError(f"a frame's number is filled up to {MOST_PADDING} digits at the most, such as %04d or ####")
    if not files.isprintable() or any("\ud800" <= letter <= "\udfff" for letter in files):
        raise ValueError("a file name holds letters, digits and signs that can be seen")
    if any(len(part.encode()) > MOST_FILE_NAME for part in Path(files).parts) or len(files) > 4 * MOST_FILE_NAME:
        raise ValueError(f"a file name has {MOST_FILE_NAME} bytes at the most")
    return files


def _padding(found: re.Match[str]) -> int:
    # The digits themselves may be too many to be made a number of.
    digits = found[1]
    return len(found[0]) if digits is None else int(digits or 1) if len(digits) < 5 else 10**5


def numbered_file(files: str, frame: int) -> str:
    """The file of one frame of a pattern; other names are returned as they are."""
    folder, name = str(Path(files).parent), Path(files).name
    name = _NUMBER.sub(lambda found: str(frame).zfill(min(_padding(found), MOST_PADDING)), name)
    return name if folder == "." and not files.startswith("./") else str(Path(folder) / name)


def parse_recipe(data: Any) -> Recipe:
    """A recipe from parsed JSON. Raises RecipeError that names the step, the setting and the remedy."""
    if not isinstance(data, dict):
        raise RecipeError("a recipe is a JSON object", where="recipe", remedy='start with {"nexal": 1, "steps": [...]}')
    if "nexal" not in data:
        raise RecipeError("the version key is missing", where="recipe", remedy='add "nexal": 1')
    try:
        return Recipe.model_validate(data)
    except ValidationError as error:
        raise from_validation(error, Recipe, data) from None


def load_recipe(path: Path) -> Recipe:
    """A recipe from a file. Raises RecipeError where it is missing, is no JSON, or is wrong."""
    try:
        data = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise RecipeError("there is no such file", where=str(path), remedy="check the path") from None
    except (OSError, UnicodeDecodeError) as error:
        raise RecipeError(f"cannot be read ({error})", where=str(path), remedy="give a JSON text file") from None
    except RecursionError:
        raise RecipeError("is nested too deeply", where=str(path), remedy="give a recipe") from None
    except json.JSONDecodeError as error:
        raise RecipeError(
            f"is not JSON: {error.msg} in line {error.lineno}, column {error.colno}",
            where=str(path),
            remedy="mend the text there",
        ) from None
    try:
        return parse_recipe(data)
    except NexalError as error:
        raise error.at(path.name) from None


def _where(location: Sequence[int | str], data: Any) -> tuple[str, list[int | str]]:
    """Words for a place in a recipe, and what is left of the path below them."""
    rest = list(location)
    if rest[:1] == ["steps"] and len(rest) > 1:
        step = data["steps"][rest[1]] if isinstance(data.get("steps"), list) else None
        number = f"number {int(rest[1]) + 1}"
        name = step.get("name", number) if isinstance(step, dict) else number
        return f"step '{name}'", rest[2:]
    if len(rest) > 1 and rest[0] in ("sources", "outputs"):
        return f"{str(rest[0])[:-1]} '{rest[1]}'", rest[2:]
    return "recipe", rest


def from_validation(error: ValidationError, model: type[BaseModel], data: Any, where: str = "") -> RecipeError:
    """The faults that a model found as one error of ours: the first, telling of the others."""
    told: list[NexalError] = []
    for fault in faults_of(error, model):
        place, rest = (where, list(fault.path)) if where else _where(fault.path, data)
        path = worded(rest)
        told.append(RecipeError(fault.message, where=f"{place}, '{path}'" if path else place, remedy=fault.remedy))
    first, *others = told
    first.with_others(others)
    assert isinstance(first, RecipeError)
    return first


def parse_output(spec: Mapping[str, Any], where: str) -> Output:
    """A checked output. Raises RecipeError, placed at `where`."""
    try:
        return Output.model_validate(spec)
    except ValidationError as error:
        raise from_validation(error, Output, spec, where) from None
