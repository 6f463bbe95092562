"""Study files: TOML a person can read and write, checked with errors that name file, line and remedy."""

from __future__ import annotations

import difflib
import math
import re
import tomllib
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from zinc_kettle.core import factors, plan
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import StudyFileError

MAX_FILE_BYTES = 1 << 20
MAX_PROMPT_BYTES = 8 << 20
MAX_CELLS = 100_000
FORMAT = 1


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class RepeatsSection(_Model):
    """`[repeats]`"""

    count: Annotated[int, Field(ge=1, le=10_000)] = 3
    requests: Annotated[int, Field(ge=1, le=100_000)] | None = None
    warm_up: Annotated[int, Field(ge=0, le=100)] = 1
    order: Literal["interleaved", "by-launch"] = "interleaved"


class LimitsSection(_Model):
    """`[limits]`, in seconds."""

    request_s: Annotated[float, Field(gt=0, le=86_400, strict=False)] = 600.0
    stall_s: Annotated[float, Field(gt=0, le=86_400, strict=False)] = 120.0
    load_s: Annotated[float, Field(gt=0, le=86_400, strict=False)] = 300.0
    quiet_s: Annotated[float, Field(ge=0, le=86_400, strict=False)] = 0.0


class PromptsSection(_Model):
    """`[prompts]`"""

    files: list[str] = []


class EndpointSection(_Model):
    """`[endpoint]`: an engine that already runs."""

    url: Annotated[str, Field(pattern=r"^https?://[^\s@]+$", max_length=2_000)]
    model: str = "default"
    key_variable: Annotated[str, Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")] | None = None


class StudyFile(_Model):
    """The whole file."""

    format: Literal[1]
    name: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,63}$")]
    question: Annotated[str, Field(min_length=1, max_length=300)]
    seed: Annotated[int, Field(ge=0, lt=1 << 31)] = 1
    temperature: Annotated[float, Field(ge=0, le=5, strict=False)] = 0.0
    vary: dict[str, list[str | int | bool]]
    hold: dict[str, str | int | bool] = {}
    prompts: PromptsSection = PromptsSection()
    repeats: RepeatsSection = RepeatsSection()
    limits: LimitsSection = LimitsSection()
    endpoint: EndpointSection | None = None


def read_study(path: Path) -> tuple[plan.Study, str]:
    """Read a study file.

    Returns:
        The study, and the file's text.

    Raises:
        StudyFileError: Anything wrong with it, with its line.
    """
    try:
        if path.stat().st_size > MAX_FILE_BYTES:
            raise StudyFileError("is larger than 1 MiB", file=path.name, remedy="this is no study file")
        text = path.read_text(encoding="utf-8")
    except OSError as error:
        raise StudyFileError(
            "cannot be read", file=path.name, why=str(error.strerror), remedy="check the path of the study file"
        ) from error
    except UnicodeDecodeError as error:
        raise StudyFileError("is not UTF-8 text", file=path.name, remedy="save it as UTF-8") from error
    return parse_study(text, file=path.name, folder=path.parent), text


def parse_study(text: str, *, file: str, folder: Path) -> plan.Study:
    """Check the text of a study file; prompt files are looked up in `folder`.

    Raises:
        StudyFileError: Anything wrong with it, with its line.
    """
    try:
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"at line (\d+)", str(error))
        line = int(found.group(1)) if found else None
        raise StudyFileError("is not TOML", file=file, line=line, why=str(error)) from error
    checker = _Checker(text, file, folder)
    try:
        model = StudyFile.model_validate(raw)
    except ValidationError as error:
        raise checker.translate(error) from error
    return checker.study(model)


def line_of(text: str, *keys: str | int) -> int | None:
    """The line where a key stands, found by its table's header and its name; None where it is not written out."""
    names = [str(key) for key in keys if isinstance(key, str)]
    if not names:
        return None
    table, key = ".".join(names[:-1]), names[-1]
    current = ""
    for number, line in enumerate(text.splitlines(), start=1):
        header = re.match(r"\s*\[\s*([\w.\- ]+?)\s*\]\s*(#.*)?$", line)
        if header:
            current = header.group(1)
            if current == ".".join(names):
                return number
        elif current == table and re.match(rf"\s*[\"']?{re.escape(key)}[\"']?\s*=", line):
            return number
    return line_of(text, *names[:-1]) if len(names) > 1 else None


class _Checker:
    """Turns a validated file into a study, or says what is wrong with it."""

    def __init__(self, text: str, file: str, folder: Path) -> None:
        self._text = text
        self._file = file
        self._folder = folder

    def error(self, what: str, *keys: str | int, why: str = "", remedy: str = "") -> StudyFileError:
        """An error with its line."""
        line = line_of(self._text, *keys)
        return StudyFileError(what, file=self._file, line=line, why=why, remedy=remedy)

    def translate(self, error: ValidationError) -> StudyFileError:
        """The first of pydantic's complaints in our words."""
        first = error.errors()[0]
        keys = tuple(k for k in first["loc"] if k not in {"str", "int", "bool"})
        name = ".".join(str(k) for k in keys if isinstance(k, str))
        if first["type"] == "missing":
            return self.error(f"{name} is missing", *keys[:-1], remedy=f"add {keys[-1]} = …")
        if first["type"] == "extra_forbidden":
            return self._unknown(name, keys)
        return self.error(
            f"{name} is not as it should be", *keys, why=str(first["msg"]),
            remedy="docs/study-files.md has every field with an example",
        )  # fmt: skip

    def _unknown(self, name: str, keys: tuple[str | int, ...]) -> StudyFileError:
        sections: dict[str, type[BaseModel]] = {
            "repeats": RepeatsSection, "limits": LimitsSection, "prompts": PromptsSection, "endpoint": EndpointSection,
        }  # fmt: skip
        model = sections.get(str(keys[0]), StudyFile) if len(keys) > 1 else StudyFile
        return self.error(f"{name} is not known", *keys, remedy=_nearest(str(keys[-1]), list(model.model_fields)))

    def study(self, m: StudyFile) -> plan.Study:
        """The study, checked as a whole."""
        vary = {name: self._levels(name, levels) for name, levels in m.vary.items()}
        hold: dict[str, factors.Level] = {}
        for name, level in m.hold.items():
            if name in vary:
                raise self.error(f"{name} is both varied and held", "hold", name, remedy="keep it in one place")
            hold[name] = self._level("hold", name, level)
        self._whole(m, vary, hold)
        texts = tuple(self._prompt(name) for name in m.prompts.files)
        study = plan.Study(
            name=m.name,
            question=neutralise(m.question, keep_newlines=False),
            vary=vary,
            hold=hold,
            endpoint=None if m.endpoint is None else plan.Endpoint(**m.endpoint.model_dump()),
            prompts=plan.Prompts(tuple(m.prompts.files), texts),
            repeats=plan.Repeats(**m.repeats.model_dump()),
            limits=plan.Limits(**m.limits.model_dump()),
            seed=m.seed,
            temperature=m.temperature,
        )
        self._lengths(study)
        return study

    def _levels(self, name: str, levels: list[str | int | bool]) -> tuple[factors.Level, ...]:
        if not levels:
            raise self.error(f"vary.{name} has no levels", "vary", name, remedy=f"{name} = [1, 2], for instance")
        checked = tuple(self._level("vary", name, level) for level in levels)
        if len(set(map(repr, checked))) < len(checked):
            raise self.error(f"vary.{name} names a level twice", "vary", name, remedy="name each level once")
        return checked

    def _level(self, section: str, name: str, level: str | int | bool) -> factors.Level:
        factor = factors.FACTORS.get(name)
        if factor is None:
            raise self.error(f"{name} is no factor", section, name, remedy=_nearest(name, list(factors.FACTORS)))
        words = {str: "text", int: "a whole number", bool: "true or false"}
        if type(level) is not factor.type:
            raise self.error(f"{name} should be {words[factor.type]}, not {level!r}", section, name,
                             why=f"{name} is: {factor.meaning}")  # fmt: skip
        if isinstance(level, int) and not isinstance(level, bool) and not factor.low <= level <= factor.high:
            raise self.error(
                f"{name} = {level} is out of bounds", section, name, remedy=f"{factor.low:,} to {factor.high:,}"
            )
        if factor.choices and level not in factor.choices:
            raise self.error(f"{name} = {level!r} is not known", section, name, remedy=", ".join(factor.choices))
        return level

    def _whole(self, m: StudyFile, vary: dict[str, tuple[factors.Level, ...]], hold: dict[str, factors.Level]) -> None:
        if not vary:
            raise self.error("nothing varies", "vary", remedy="name at least one factor, such as threads = [1, 2]")
        if math.prod(len(levels) for levels in vary.values()) > MAX_CELLS:
            raise self.error(f"the study has more than {MAX_CELLS:,} cells", "vary", remedy="vary less")
        if m.endpoint is not None:
            self._endpoint(vary, hold)
        elif "model" not in vary and "model" not in hold:
            raise self.error("no model is named", "hold", remedy='[hold] model = "brine-60m"')
        if "prompt_tokens" not in vary and "prompt_tokens" not in hold and not m.prompts.files:
            raise self.error("no prompts are named", remedy="[hold] prompt_tokens = 512, or [prompts] files = […]")

    def _endpoint(self, vary: dict[str, tuple[factors.Level, ...]], hold: dict[str, factors.Level]) -> None:
        for section, names in (("vary", vary), ("hold", hold)):
            for name in names:
                if factors.FACTORS[name].kind == "launch":
                    raise self.error(
                        f"{name} cannot be set on an endpoint", section, name,
                        why="that engine already runs; its launch settings are not ours to change",
                        remedy=f"remove {name}, or let Zinc Kettle start the engine",
                    )  # fmt: skip

    def _prompt(self, name: str) -> str:
        path = self._folder / name
        try:
            inside = path.resolve().is_relative_to(self._folder.resolve())
            if not inside or path.stat().st_size > MAX_PROMPT_BYTES:
                raise self.error(
                    f"the prompt file {name} is not used", "prompts", "files",
                    why="it is outside the study's folder or larger than 8 MiB", remedy="put it beside the study file",
                )  # fmt: skip
            text = path.read_text(encoding="utf-8").strip()
        except (OSError, UnicodeDecodeError) as error:
            raise self.error(f"the prompt file {name} cannot be read", "prompts", "files", why=str(error)) from error
        if not text:
            raise self.error(f"the prompt file {name} is empty", "prompts", "files")
        return text

    def _lengths(self, study: plan.Study) -> None:
        if study.endpoint is not None:
            return
        for cell in plan.cells(study):
            prompt, context = cell.settings["prompt_tokens"], int(cell.settings["context"] or 0)
            output = int(cell.settings["output_tokens"] or 0)
            if prompt is not None and int(prompt) + output > context:
                section = "vary" if "context" in study.vary else "hold"
                raise self.error(
                    f"{prompt:,} prompt tokens and {output:,} output tokens do not fit a context of {context:,}",
                    section, "context", why="the engine would cut answers short without a word",
                    remedy=f"context = {int(prompt) + output} or more",
                )  # fmt: skip


def _nearest(name: str, known: list[str]) -> str:
    near = difflib.get_close_matches(name, known, n=1, cutoff=0.5)
    return f"did you mean {near[0]}?" if near else "one of: " + ", ".join(known)
