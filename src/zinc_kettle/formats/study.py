"""Study files: TOML a person can read and write, checked with errors that name file, line and remedy."""

from __future__ import annotations

import difflib
import math
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from zinc_kettle.core import factors, load, plan
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats import sections
from zinc_kettle.formats.prompts import BadPromptFile, read_prompts, read_times
from zinc_kettle.formats.sections import StudyFile
from zinc_kettle.formats.study_parts import lengths_of, most_tokens, repeats_of, tasks_of
from zinc_kettle.formats.toml import parse_toml, read_toml

MAX_CELLS = 100_000
T = TypeVar("T")


def read_study(path: Path) -> tuple[plan.Study, str]:
    """Read a study file.

    Returns:
        The study, and the file's text.

    Raises:
        StudyFileError: Anything wrong with it, with its line.
    """
    raw, text = read_toml(path)
    return _study(raw, text, path.name, path.parent), text


def parse_study(text: str, *, file: str, folder: Path) -> plan.Study:
    """Check the text of a study file; prompt files are looked up in `folder`.

    Raises:
        StudyFileError: Anything wrong with it, with its line.
    """
    return _study(parse_toml(text, file=file), text, file, folder)


def _study(raw: dict[str, Any], text: str, file: str, folder: Path) -> plan.Study:
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
        known: dict[str, type[BaseModel]] = {
            "repeats": sections.RepeatsSection, "limits": sections.LimitsSection, "prompts": sections.PromptsSection,
            "endpoint": sections.EndpointSection, "load": sections.LoadSection, "retry": sections.RetrySection,
        }  # fmt: skip
        model = known.get(str(keys[0]), StudyFile) if len(keys) > 1 else StudyFile
        if len(keys) > 2:
            model = sections.LengthsSection
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
        study = plan.Study(
            name=m.name,
            question=neutralise(m.question, keep_newlines=False),
            vary=vary,
            hold=hold,
            endpoint=None if m.endpoint is None else plan.Endpoint(**m.endpoint.model_dump()),
            prompts=self._prompts(m),
            repeats=repeats_of(m.repeats),
            limits=plan.Limits(**m.limits.model_dump()),
            seed=m.seed,
            temperature=m.temperature,
            load=self._load(m.load),
            retry=load.RetryPolicy(**{**m.retry.model_dump(), "on": tuple(m.retry.on)}),
        )
        self._shapes(study)
        self._lengths(study)
        return study

    def _prompts(self, m: StudyFile) -> plan.Prompts:
        texts: list[str] = []
        recorded: list[load.Recorded] = []
        for name in m.prompts.files:
            found = self._read(name, "prompts", "files", read=read_prompts)
            if isinstance(found, str):
                texts.append(found)
            else:
                recorded += found
        if texts and recorded:
            raise self.error("plain text files and files of many prompts do not mix", "prompts", "files",
                             remedy="name one kind")  # fmt: skip
        if m.prompts.sample is not None and not recorded:
            raise self.error("there is nothing to sample", "prompts", "sample", remedy="name a .jsonl or .csv file")
        return plan.Prompts(
            tuple(m.prompts.files), tuple(texts),
            tuple(load.sample(recorded, m.prompts.sample, seed=m.seed)), tasks_of(m), m.prompts.sample,
            lengths_of(m.prompts.lengths), lengths_of(m.prompts.outputs),
        )  # fmt: skip

    def _load(self, m: sections.LoadSection) -> load.Load:
        times: tuple[float, ...] = ()
        if m.times_file is not None:
            times = self._read(m.times_file, "load", "times_file", read=read_times)
        return load.Load(m.shape, m.arrivals, times, m.times_file, m.think_s, m.turns, m.drivers)

    def _read(self, name: str, *keys: str, read: Callable[[Path], T]) -> T:
        path = self._folder / name
        try:
            if not path.resolve().is_relative_to(self._folder.resolve()):
                raise BadPromptFile("is outside the study's folder")
            return read(path)
        except BadPromptFile as error:
            raise self.error(f"{name} {error}", *keys, remedy="docs/study-files.md shows what such a file holds, and "
                             "it stands beside the study file") from error  # fmt: skip

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
        named = any(name in part for name in ("prompt_tokens", "task") for part in (vary, hold))
        if not named and not m.prompts.files and m.prompts.lengths is None:
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

    def _shapes(self, study: plan.Study) -> None:
        """Shape of the load and factors must go together."""
        rated = "rate" in study.vary or "rate" in study.hold
        is_open = study.load.shape == "open"
        if rated and not is_open:
            raise self.error("rate goes with an open loop only", "vary" if "rate" in study.vary else "hold", "rate",
                             remedy='[load] shape = "open", or remove rate')  # fmt: skip
        if is_open and not rated and study.load.arrivals != "recorded":
            raise self.error("an open loop wants a rate", "load", "shape", remedy="[hold] rate = 60 (a minute)")
        if is_open and ("concurrency" in study.vary or "concurrency" in study.hold):
            section = "vary" if "concurrency" in study.vary else "hold"
            raise self.error("concurrency is what an open loop does not set", section, "concurrency",
                             remedy="hold slots, and vary rate")  # fmt: skip
        if study.prompts.recorded and ("prompt_tokens" in study.vary or "prompt_tokens" in study.hold):
            section = "vary" if "prompt_tokens" in study.vary else "hold"
            raise self.error("recorded prompts have the length they have", section, "prompt_tokens",
                             remedy="remove prompt_tokens, or use plain text files")  # fmt: skip
        for one, other in (("lengths", "prompt_tokens"), ("outputs", "output_tokens")):
            given = getattr(study.prompts, one) is not None
            if given and (other in study.vary or other in study.hold):
                section = "vary" if other in study.vary else "hold"
                raise self.error(f"{other} and prompts.{one} both say how long", section, other, remedy="keep one")

    def _lengths(self, study: plan.Study) -> None:
        if study.endpoint is not None:
            return
        for cell in plan.cells(study):
            prompt, output = most_tokens(study, cell)
            context = int(cell.settings["context"] or 0)
            if prompt is not None and prompt + output > context:
                section = "vary" if "context" in study.vary else "hold"
                raise self.error(
                    f"{prompt:,} prompt tokens and {output:,} output tokens do not fit a context of {context:,}",
                    section, "context", why="the engine would cut answers short without a word",
                    remedy=f"context = {prompt + output} or more",
                )  # fmt: skip


def _nearest(name: str, known: list[str]) -> str:
    near = difflib.get_close_matches(name, known, n=1, cutoff=0.5)
    return f"did you mean {near[0]}?" if near else "one of: " + ", ".join(known)
