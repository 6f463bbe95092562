"""A study file from a template: TOML as a person would write it, with the reason of the design in front."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence

from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.templates import Template

WIDTH = 100


def study_text(template: Template, name: str, *, vary: Mapping[str, Sequence[Level]], hold: Mapping[str, Level]) -> str:
    """The text of a study file.

    Args:
        template: The design.
        name: Of the study.
        vary: Factors with their levels, those of the template included.
        hold: What is held, that of the template included.
    """
    import tomlkit

    document = tomlkit.document()
    for line in textwrap.wrap(f"Made from the template {template.name}. {template.reason}", WIDTH):
        document.add(tomlkit.comment(line))
    document.update({"format": 1, "name": name, "question": template.question})
    sections: dict[str, Mapping[str, object]] = {
        "decide": template.decide,
        "vary": {factor: list(levels) for factor, levels in vary.items()},
        "hold": hold,
        "promise": template.promise,
        "capacity": template.capacity,
        "repeats": template.repeats,
    }
    for title, content in sections.items():
        if content:
            table = tomlkit.table()
            table.update(content)
            document.add(tomlkit.nl())
            document.add(title, table)
    return tomlkit.dumps(document)
