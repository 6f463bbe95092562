"""What an engine that answers tells of itself over HTTP, by the paths its recipe names."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, cast

from zinc_kettle.core.facts import EngineFacts
from zinc_kettle.core.plan.recipe import Count, Recipe
from zinc_kettle.core.text import neutralise, shorten
from zinc_kettle.web.bounded import NoAnswerError, ask_json
from zinc_kettle.wire.messages import ChatMessage

HTTP_LIMIT_S = 30.0
MODELS_PATH = "/v1/models"
UNSTEADY = frozenset({"id", "object", "created", "owned_by"})
"""Fields of a listed model that are its name, say nothing of it, or change from one question to the next."""
FACT_WIDTH = 400


def found(value: object, at: str) -> object:
    """What lies at a dotted path of nested objects; None where there is nothing."""
    for name in at.split("."):
        value = value.get(name) if isinstance(value, Mapping) else None
    return value


async def count_tokens(count: Count | None, base_url: str, messages: Sequence[ChatMessage]) -> int | None:
    """Prompt tokens of these messages, template included; None where the engine has no way to tell."""
    if count is None:
        return None
    turns = [{"role": m.role, "content": m.content} for m in messages]
    try:
        text: object = turns
        if count.template:
            answer = await ask_json(at(base_url, count.template), post={"messages": turns}, limit_s=HTTP_LIMIT_S)
            text = found(answer, count.prompt)
        body = {count.text: text, **count.extra}
        tokens = found(await ask_json(at(base_url, count.tokenize), post=body, limit_s=HTTP_LIMIT_S), count.tokens)
    except NoAnswerError:
        return None
    if isinstance(tokens, list):
        return len(tokens)
    return tokens if isinstance(tokens, int) and not isinstance(tokens, bool) else None


def at(base_url: str, path: str) -> str:
    """A path of an address."""
    return f"{base_url.rstrip('/')}{path}"


async def told_facts(recipe: Recipe, base_url: str) -> EngineFacts:
    """The facts its recipe knows how to ask for; those it does not tell are missing."""
    out: dict[str, Any] = {}
    for name, ask in recipe.facts.items():
        value = found(await _asked(base_url, ask.path), ask.at)
        if isinstance(value, (str, int, float)):
            out[name] = shorten(neutralise(str(value), keep_newlines=False), FACT_WIDTH)
    return cast(EngineFacts, out)


async def told_models(base_url: str, key: str, ca_file: str | None) -> tuple[str, bool]:
    """What an address says it serves, as the open protocol lists it: each model with what is told of it.

    Args:
        base_url: The address.
        key: Sent along where the server wants one; nobody else gets it, redirects are not followed.
        ca_file: Certificates to trust; None for the system's.

    Returns:
        Such as `harbour-4b (n_ctx_train 8192)`, empty where it tells nothing; and whether it says that it is made up,
        as simulated rigs do.
    """
    path = MODELS_PATH.removeprefix("/v1") if base_url.rstrip("/").endswith("/v1") else MODELS_PATH
    listed = found(await _asked(base_url, path, key, ca_file), "data")
    entries = [entry for entry in listed if isinstance(entry, Mapping)] if isinstance(listed, list) else []
    models = sorted(filter(None, map(_model_told, entries)))
    made_up = any(entry.get("simulated") is True for entry in entries)
    return shorten(neutralise(", ".join(models), keep_newlines=False), FACT_WIDTH), made_up


def _model_told(entry: Mapping[str, object]) -> str:
    """A model of the list; times are left out, since some servers give that of the question."""
    meta = entry.get("meta")
    told = {**entry, **(meta if isinstance(meta, Mapping) else {})}
    plain = [
        f"{name} {value}"
        for name, value in sorted(told.items())
        if name not in UNSTEADY and isinstance(value, (str, int, float)) and not isinstance(value, bool)
    ]
    return f"{entry.get('id', '')}" + (f" ({', '.join(plain)})" if plain else "")


async def _asked(base_url: str, path: str, key: str = "", ca_file: str | None = None) -> object:
    """The JSON at a path; None where there is none."""
    try:
        return await ask_json(at(base_url, path), key=key, ca_file=ca_file, limit_s=HTTP_LIMIT_S)
    except NoAnswerError:
        return None
