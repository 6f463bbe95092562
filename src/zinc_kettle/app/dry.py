"""What a study would start and send, to the letter, without starting or sending anything; keys are left out."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from zinc_kettle.app.build import recipe_book
from zinc_kettle.app.fleet import recipe_named
from zinc_kettle.config import Places
from zinc_kettle.core.checks.validate import most_tokens
from zinc_kettle.core.plan.recipe import Recipe, environment, request_fields
from zinc_kettle.core.plan.study import Cell, LaunchSpec, Study, shape_of
from zinc_kettle.driver.target import Target
from zinc_kettle.engines.launchers import path_of
from zinc_kettle.engines.line import launch_line, shown_line
from zinc_kettle.wire.messages import ChatMessage, RequestOrder, Setup

ANY_PORT = "http://127.0.0.1:8080"
"""Where a started engine listens is not known before; the driver is told then."""
HIDDEN = "hidden"


@dataclass(frozen=True)
class DryLaunch:
    """An engine as it would be started, or reached, and what each of its cells would send."""

    line: str
    """The argument vector; paths of this machine are shortened to their last part."""
    environment: Mapping[str, str]
    requests: tuple[tuple[tuple[Cell, ...], Mapping[str, Any]], ...]
    """Cells that send the same, and the body of a request of theirs."""
    headers: tuple[str, ...] = ()


def dry_run(study: Study, where: Places) -> list[DryLaunch]:
    """Every launch of a study, in the order of its cells.

    Raises:
        StudyFileError: A recipe of the person's own cannot be used.
        UsageError: There is no recipe of that name.
    """
    recipes = recipe_book(where)
    by_launch: dict[LaunchSpec, list[Cell]] = {}
    for cell in study.cells:
        by_launch.setdefault(cell.launch, []).append(cell)
    return [_launch(study, recipe_named(recipes, spec.engine), spec, cells) for spec, cells in by_launch.items()]


def _launch(study: Study, recipe: Recipe, spec: LaunchSpec, cells: Sequence[Cell]) -> DryLaunch:
    bodies: dict[str, tuple[dict[str, Any], list[Cell]]] = {}
    for cell in cells:
        body = _body(study, recipe, cell)
        bodies.setdefault(json.dumps(body, sort_keys=True), (body, []))[1].append(cell)
    requests = tuple((tuple(mine), body) for body, mine in bodies.values())
    reached = study.endpoint
    if reached is not None or recipe.start is None:
        url = reached.url if reached is not None else f"the address of the rig {spec.rig or 'here'}"
        key = reached is not None and (reached.key_variable or reached.key_file)
        headers = (
            "Accept: text/event-stream",
            "Content-Type: application/json",
            *((f"Authorization: Bearer ({HIDDEN})",) if key else ()),
        )
        return DryLaunch(f"asked at {url}", {}, requests, headers)
    model = f"{spec.model}.{spec.quantization}.gguf" if spec.quantization else spec.model
    start = recipe.start
    launcher = path_of(start.launcher).as_posix() if start.launcher else ""
    line = launch_line(recipe, spec.levels, model=model, port=0, python="python", launcher=launcher)
    variables = {**start.environment, **environment(recipe.engine, spec.levels)}
    return DryLaunch(shown_line(line), variables, requests)


def _messages(study: Study, cell: Cell) -> tuple[list[ChatMessage], int]:
    """What the first request of a cell says, and how long its answer may be."""
    prompt, output = most_tokens(study, cell)
    asked = study.prompts.only(str(cell.settings["prompt"]))
    salt = "(salt) " if cell.settings["salt"] else ""
    if asked.recorded:
        first = asked.recorded[0]
        last = max(i for i, (role, _) in enumerate(first.messages) if role == "user")
        said = [ChatMessage(role, text) for role, text in first.messages[: last + 1]]
        output = first.output_tokens or output
    elif prompt is None and asked.texts:
        said = [ChatMessage("user", asked.texts[0])]
    else:
        words = "a prompt as it is in its file" if prompt is None else f"a prompt of {prompt:,} tokens"
        return [ChatMessage("user", f"({words}{' behind its salt' if salt else ''})")], output
    at = next(i for i, message in enumerate(said) if message.role == "user")
    said[at] = ChatMessage("user", f"{salt}{said[at].content}")
    return said, output


def _body(study: Study, recipe: Recipe, cell: Cell) -> dict[str, Any]:
    """The body of a request as the driver would encode it: the first prompt whole where it goes out as it is; the text
    of one that has a length is found with the engine, later."""
    messages, output = _messages(study, cell)
    order = RequestOrder(
        "dry",
        "measured",
        messages,
        output,
        temperature=study.temperature,
        seed=study.seed,
        extra=request_fields(recipe, cell.settings, exact=study.prompts.answers == "exact"),
    )
    named = study.endpoint.model if study.endpoint is not None else cell.launch.model
    target = Target.of(Setup(ANY_PORT, named))
    count = int(cell.settings["concurrency"] or 1)
    whole = target.encode_batch([order] * count) if shape_of(study, cell) == "batch" else target.encode(order)
    body: dict[str, Any] = json.loads(whole.partition(b"\r\n\r\n")[2])
    return body
