"""Plans from templates, and the models a plan may be about: for the command line and for the screen."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import psutil

from zinc_kettle.config import Places, usual_model_folders
from zinc_kettle.core.names import name_from
from zinc_kettle.core.plan.factors import FACTORS, Factor, Level
from zinc_kettle.core.plan.ranges import read_level, read_levels
from zinc_kettle.core.plan.recipe import BUILT_IN, Engine, factors_of
from zinc_kettle.core.plan.templates import TEMPLATES, Template, core_counts, missing
from zinc_kettle.core.problem import nearest
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.formats import presets, synth
from zinc_kettle.formats.new_study import study_text
from zinc_kettle.formats.scan import FoundModel, scan

if TYPE_CHECKING:
    from zinc_kettle.formats.study import Known

USUAL_QUANTIZATION = "Q8_0"
MOST_NAME = 60


def template_named(name: str) -> Template:
    """A template.

    Raises:
        UsageError: There is none of that name.
    """
    if name not in TEMPLATES:
        raise UsageError(f"there is no template {name!r}", remedy=nearest(name, TEMPLATES))
    return TEMPLATES[name]


def template_text(
    template: Template,
    engines: Known,
    *,
    vary: Mapping[str, str],
    hold: Mapping[str, str],
    name: str = "",
    lenient: bool = False,
) -> tuple[str, str]:
    """A study's name, and its text from a template.

    Args:
        template: The design.
        engines: What a study may name.
        vary: Levels in shorthand, by factor; what the template says otherwise.
        hold: A level by factor.
        name: Of the study; made from the template and the model where it is empty.
        lenient: Leave what only a person knows empty, for an editor to ask.

    Raises:
        UsageError: No such factor, a level that cannot be, or nothing to vary.
    """
    factors = factors_of(_engines({**hold, **vary}, engines))
    varied = {factor: levels_typed(factors, factor, said) for factor, said in _varied(template, vary).items()}
    # What the engine has no setting for is not the template's to hold.
    held: dict[str, Level] = {n: level for n, level in template.hold.items() if n not in varied and n in factors}
    held.update({factor: level_typed(factors, factor, said) for factor, said in hold.items()})
    held.update(_quantization(held, varied))
    lacking = missing(template, list(varied)) or ([] if varied else ["NAME"])
    if lacking and not lenient:
        raise UsageError(f"{template.name} needs to know what to vary", remedy=f"--vary {lacking[0]}=…,…")
    varied.update({factor: () for factor in lacking if factor != "NAME"})
    title = name or study_name(template.name, held)
    return title, study_text(template, title, vary=varied, hold=held)


def study_name(template: str, held: Mapping[str, Level]) -> str:
    """A name for a study, from its template and what it is about."""
    about = Path(str(held.get("model", held.get("engine", "here")))).name.removesuffix(".gguf")
    return name_from(f"{template}-{about}", otherwise=template, longest=MOST_NAME)


def _quantization(held: Mapping[str, Level], varied: Mapping[str, object]) -> dict[str, Level]:
    """The usual one for a model that is named without any: a file has its own, a name says nothing of it."""
    model = str(held.get("model", ""))
    named = model and not model.endswith(".gguf") and "/" not in model
    return {"quantization": USUAL_QUANTIZATION} if named and not {"quantization"} & {*varied, *held} else {}


def _engines(named: Mapping[str, str], known: Known) -> list[Engine]:
    usual = known.rig_engines.get(named.get("rig", ""), BUILT_IN)
    names = {name.strip() for name in named.get("engine", usual).split(",")}
    return [engine for name, engine in known.engines.items() if name in names]


def _varied(template: Template, asked: Mapping[str, str]) -> dict[str, str]:
    """Factors and their levels in shorthand: the template's, with what a person says otherwise, then what is added."""
    own = {
        name: ", ".join(map(str, core_counts(cores_here()))) if levels == "cores" else levels
        for name, levels in template.vary.items()
    }
    return {name: said for name, said in {**own, **asked}.items() if said}


def cores_here() -> int:
    """Physical cores of this machine."""
    return psutil.cpu_count(logical=False) or os.cpu_count() or 1


def levels_typed(factors: Mapping[str, Factor], name: str, said: str) -> tuple[Level, ...]:
    """Levels of a factor in shorthand.

    Raises:
        UsageError: No such factor, or something that is no level of it.
    """
    if name not in factors:
        raise UsageError(f"{name} is not a factor", remedy=nearest(name, factors))
    try:
        levels = read_levels(factors[name], said)
    except ValueError as error:
        raise UsageError(f"{name}={said}: {error}", remedy=f"{name}=1..8 x2, or {name}=1,2,4") from error
    if levels is None:
        raise UsageError(
            f"{name}={said} holds something that is no level of it",
            why=factors[name].meaning,
            remedy="levels separated by commas; numbers also as 1..8 x2 or 512..2048 +512",
        )
    return levels


def level_typed(factors: Mapping[str, Factor], name: str, said: str) -> Level:
    """A level of a factor.

    Raises:
        UsageError: No such factor, or no level of it.
    """
    if name not in factors:
        raise UsageError(f"{name} is not a factor", remedy=nearest(name, factors))
    level = read_level(factors[name], said)
    if level is None:
        raise UsageError(f"{said!r} is no level of {name}", why=factors[name].meaning, remedy="see docs/study-files.md")
    return level


# models
def models_here(places: Places) -> list[FoundModel]:
    """Models on this machine's disks: those of the model folder, of folders a person named, and of usual ones."""
    seen: dict[Path, FoundModel] = {}
    for folder in dict.fromkeys([places.models, *places.more_models, *usual_model_folders()]):
        if not folder.is_dir():
            continue
        try:
            found = scan(folder)
        except (KettleError, OSError):
            continue  # a folder that cannot be read has nothing to measure
        for model in found:
            seen.setdefault(model.path.resolve(), model)
    return list(seen.values())


def levels_of_model(found: FoundModel, places: Places) -> dict[str, str]:
    """How a study names a model: by its name where it lies in the model folder, else by its path."""
    if found.path.parent == places.models:
        for name in _preset_names():
            if found.path.name.startswith(f"{name}."):
                return {"model": name, "quantization": found.path.name[len(name) + 1 :].removesuffix(".gguf")}
    return {"model": str(found.path)}


def _preset_names() -> Iterator[str]:
    for name in presets.PRESETS:
        for suffix in ("", presets.BPE, presets.UNTAMED):
            yield f"{name}{suffix}"


def known_levels(name: str, engines: Known, places: Places) -> list[tuple[str, str]]:
    """Levels of a factor that are known here, each with what it is; none where any number will do."""
    if name == "model":
        own = [(levels_of_model(m, places)["model"], _about(m)) for m in models_here(places) if m.shape is not None]
        made = [(preset, "made up: random weights, made when it is measured") for preset in presets.PRESETS]
        return list(dict([*made, *own]).items())
    if name == "quantization":
        return [(q, "stored precision") for q in synth.QUANTIZATIONS]
    if name == "engine":
        return [(engine, "started here" if e.started else "runs already") for engine, e in engines.engines.items()]
    factor = FACTORS.get(name)
    return [(choice, "") for choice in factor.choices] if factor is not None else []


def _about(found: FoundModel) -> str:
    from zinc_kettle.core.units import byte_size

    return f"{found.path.name}, {byte_size(found.size_bytes)}"
