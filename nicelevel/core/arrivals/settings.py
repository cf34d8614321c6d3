"""A line as somebody drew it: where it comes from, what is done, under which name it is published, what must hold."""

from pathlib import Path
from typing import Annotated, Any, Literal, Self

import tomli_w
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator

from ..errors import SpecError
from ..toml import parse_toml
from .schedule import refuse_schedule
from .under import refuse_name


def _absolute(text: str) -> str:
    text = text.strip()
    if text and not Path(text).is_absolute():
        raise ValueError("is given from the root on, like /mnt/bulletins")
    return text


Folder = Annotated[str, AfterValidator(_absolute)]
Seconds = Annotated[float, Field(ge=0, le=86_400)]


class LineSettings(BaseModel):
    """name: what people call it. folder: where it comes from; subfolders: whether those count too.

    spec, recipe: slugs; without a spec what comes is only looked at. publish: the folder that is published into;
    under: the name there without extension, with `FIELDS` in braces.
    expected: in the words of cron, empty for whenever it comes; late_after_s: how long after that it is late.
    when_nothing: what is done then: told to the hook, only shown, or a stand-in file published in its place.
    marker: the ending of a file that says that another one is whole, empty where none comes.
    shortest_s, longest_s: of what is left once it is prepared; 0 for any. settle_s: how long a file must be still.
    hold: where a copy of what fails is put too; hook: an address that is told of it. afterwards: what becomes of the
    arrival itself once it is published, put away into `moved_to`, deleted, or left where it is.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, str_strip_whitespace=True)

    name: str = Field(min_length=1, max_length=80)
    folder: Folder
    subfolders: bool = False
    spec: str = ""
    recipe: str = ""
    publish: Folder = ""
    under: str = "{title}"
    expected: str = ""
    late_after_s: Seconds = 300.0
    when_nothing: Literal["tell", "show", "stand_in"] = "tell"
    stand_in: Folder = ""
    shortest_s: Seconds = 0.0
    longest_s: Seconds = 0.0
    settle_s: Annotated[float, Field(ge=0.1, le=600)] = 2.0
    marker: str = Field("", max_length=20)
    hold: Folder = ""
    hook: str = Field("", max_length=500)
    afterwards: Literal["leave", "move", "delete"] = "leave"
    moved_to: Folder = ""
    runs: bool = True

    @model_validator(mode="after")
    def _holds_together(self) -> Self:
        if not self.folder:
            raise ValueError("a line has a folder that it comes from")
        refuse_schedule(self.expected)
        refuse_name(self.under)
        if self.marker and (not self.marker.startswith(".") or "/" in self.marker):
            raise ValueError("a marker is an ending like .done")
        if self.spec and not self.publish:
            raise ValueError("what is levelled is published into some folder")
        if self.publish and Path(self.publish) in (Path(self.folder), *(Path(self.folder).parents)) and self._loops():
            raise ValueError("it would publish into the folder that it comes from, and take that in again")
        if self.longest_s and self.longest_s < self.shortest_s:
            raise ValueError("the longest length is shorter than the shortest")
        if self.afterwards == "move" and not self.moved_to:
            raise ValueError("what is put away is put into some folder")
        if self.when_nothing == "stand_in" and not self.stand_in:
            raise ValueError("what stands in is some file")
        return self

    def _loops(self) -> bool:
        return Path(self.publish) == Path(self.folder)


def line_of(told: dict[str, Any]) -> LineSettings:
    """Settings that a page or a file tells. Raises SpecError with a sentence for the first that is wrong."""
    try:
        return LineSettings.model_validate(told)
    except ValidationError as error:
        first = error.errors()[0]
        where = " ".join(str(each) for each in first["loc"]).replace("_", " ")
        said = str(first["msg"]).removeprefix("Value error, ")
        raise SpecError(f"The line's {where}: {said}." if where else f"{said[:1].upper()}{said[1:]}.") from error


def parse_line(text: str, name: str = "line") -> LineSettings:
    """A line from its TOML. Raises SpecError."""
    tables = parse_toml(text, name)
    if set(tables) != {"line"} or not isinstance(tables["line"], dict):
        raise SpecError(f"{name}: a line is one table, [line]")
    return line_of(tables["line"])


def line_to_toml(line: LineSettings) -> str:
    """Its text: what is left at its default left out."""
    return tomli_w.dumps({"line": line.model_dump(exclude_defaults=True)})
