"""What an engine that answers tells of itself over HTTP, by the paths its recipe names."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, cast

from zinc_kettle.core.facts import EngineFacts
from zinc_kettle.core.recipe import Count, Recipe
from zinc_kettle.core.text import neutralise, shorten
from zinc_kettle.wire.messages import ChatMessage

if TYPE_CHECKING:
    import httpx

HTTP_LIMIT_S = 30.0
FACT_WIDTH = 400


def found(value: object, at: str) -> object:
    """What lies at a dotted path of nested objects; None where there is nothing."""
    for name in at.split("."):
        value = value.get(name) if isinstance(value, Mapping) else None
    return value


async def count_tokens(count: Count | None, base_url: str, messages: Sequence[ChatMessage]) -> int | None:
    """Prompt tokens of these messages, template included; None where the engine has no way to tell."""
    import httpx

    if count is None:
        return None
    turns = [{"role": m.role, "content": m.content} for m in messages]
    try:
        async with _client(base_url) as http:
            text: object = turns
            if count.template:
                answer = await http.post(count.template, json={"messages": turns})
                text = found(answer.raise_for_status().json(), count.prompt)
            answer = await http.post(count.tokenize, json={count.text: text, **count.extra})
            tokens = found(answer.raise_for_status().json(), count.tokens)
    except (httpx.HTTPError, ValueError):
        return None
    if isinstance(tokens, list):
        return len(tokens)
    return tokens if isinstance(tokens, int) and not isinstance(tokens, bool) else None


async def told_facts(recipe: Recipe, base_url: str) -> EngineFacts:
    """The facts its recipe knows how to ask for; those it does not tell are missing."""
    import httpx

    out: dict[str, Any] = {}
    for name, ask in recipe.facts.items():
        try:
            async with _client(base_url) as http:
                value = found((await http.get(ask.path)).raise_for_status().json(), ask.at)
        except (httpx.HTTPError, ValueError):
            continue
        if isinstance(value, (str, int, float)):
            out[name] = shorten(neutralise(str(value), keep_newlines=False), FACT_WIDTH)
    return cast(EngineFacts, out)


def _client(base_url: str) -> httpx.AsyncClient:
    import httpx

    # Reading the system's certificates takes 20 ms, which an address without TLS need not wait for.
    verify = base_url.startswith("https")
    return httpx.AsyncClient(base_url=base_url, timeout=HTTP_LIMIT_S, trust_env=False, verify=verify)
