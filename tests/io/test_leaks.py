"""A key that a server sends back is nowhere afterwards: not in the store, not in anything that is written."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path

import pytest

from tests.build import study
from zinc_kettle.app.build import experiment
from zinc_kettle.app.packing import hidden_words, known_keys, pack
from zinc_kettle.app.reporting import Reports, write_report
from zinc_kettle.app.side_names import Sides
from zinc_kettle.config import Places
from zinc_kettle.core.anonymise import Anonymiser
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.core.plan.study import Repeats
from zinc_kettle.core.redact import HIDDEN, redact
from zinc_kettle.core.report import ReportPart, ReportPlan
from zinc_kettle.engines.environment import inherited
from zinc_kettle.formats.tables import write_table
from zinc_kettle.present.tables import table
from zinc_kettle.session import progress as p
from zinc_kettle.store.reading import open_run
from zinc_kettle.store.store import KettleStore

KEY = "Sesame-4711-of-the-Harbour"


def sse(*events: object) -> bytes:
    """A whole answer of these events."""
    lines = [f"data: {event if isinstance(event, str) else json.dumps(event)}\n\n" for event in events]
    head = b"HTTP/1.1 200 X\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\n"
    return head + "".join(lines).encode()


def answer(text: str = "bada", finish: str = "stop", **more: object) -> bytes:
    """An ordinary answer with something in one of its fields."""
    usage = {"choices": [], "usage": {"prompt_tokens": 64, "completion_tokens": 4}, **more}
    ends = {"choices": [{"delta": {}, "finish_reason": finish}]}
    return sse(*[{"choices": [{"delta": {"content": text}}]}] * 4, ends, usage, "[DONE]")


def failed(body: str) -> bytes:
    """A failed status."""
    return b"HTTP/1.1 418 %b\r\nContent-Length: %d\r\n\r\n%b" % (KEY.encode(), len(body), body.encode())


ECHOES: dict[str, bytes] = {
    "the reason it ended": answer(finish=KEY),
    "the reason it ended, in another case": answer(finish=KEY.upper()),
    "the reason it ended, cut": answer(finish="x" * 30 + KEY),
    "text": answer(text=f" {KEY} "),
    "text, letter by letter": sse(*[{"choices": [{"delta": {"content": c}}]} for c in KEY], "[DONE]"),
    "reasoning": sse({"choices": [{"delta": {"reasoning_content": KEY.lower()}}]}, "[DONE]"),
    "an error in the stream": sse({"choices": [{"delta": {"content": "a"}}]}, {"error": {"message": KEY}}),
    "a failed status": failed(f"no such key {KEY.swapcase()}"),
    "a type that is none": b"HTTP/1.1 200 X\r\nContent-Type: %b\r\n\r\n" % KEY.encode(),
    "what is no JSON": sse("{" + KEY),
    "a number that is none": answer(usage={"prompt_tokens": KEY}),
}


@asynccontextmanager
async def server(reply: bytes) -> AsyncIterator[str]:
    """Answers every request with the same bytes; what an engine would say of itself holds the key, too."""

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            head = await reader.readuntil(b"\r\n\r\n")
        except (asyncio.IncompleteReadError, ConnectionError):
            return
        facts = json.dumps({"version": KEY, "build_info": KEY}).encode()
        about = b"HTTP/1.1 200 X\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%b" % (len(facts), facts)
        writer.write(reply if head.startswith(b"POST") else about)
        await writer.drain()
        writer.close()

    async with await asyncio.start_server(serve, "127.0.0.1", 0) as listening:
        yield f"http://127.0.0.1:{listening.sockets[0].getsockname()[1]}"


@pytest.mark.parametrize("case", ECHOES)
async def test_no_field_of_an_answer_brings_the_key_back(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, case: str
) -> None:
    """A search for its letters, in any case, over the store, a bundle, all tables, a report and all that was told."""
    monkeypatch.setenv("HARBOUR_KEY", KEY)
    events: list[p.Event] = []
    places = Places(tmp_path, tmp_path / "s.db")
    async with server(ECHOES[case]) as url:
        plan = study(
            {"concurrency": (1,)},
            hold={"output_tokens": 4},
            repeats=Repeats(count=1, requests=2),
            endpoint=Endpoint(url, key_variable="HARBOUR_KEY"),
        )
        store = KettleStore(places.store)
        await experiment(plan, places, store, events.append).run()
    run = next(event for event in events if isinstance(event, p.Began)).run_id
    out = tmp_path / "out"
    keys = known_keys(places, [plan])
    pack(store, [run], out / "a.kettle", words=hidden_words(places), secrets=keys)
    results = open_run(store, run)
    for of in ("cells", "repeats", "requests"):
        write_table(table([results], of), out / f"{of}.csv")
    reports = Reports(places, Sides(places, lambda: store), lambda _run: store, list)
    write_report(reports.document(ReportPlan(parts=(ReportPart("study", (plan.name,)),))), out / "r.html")
    store.close()
    assert KEY in keys and KEY.lower() not in repr(events).lower()
    for path in tmp_path.rglob("*"):
        if path.is_file():
            assert KEY.lower().encode() not in path.read_bytes().lower(), path.name


@pytest.mark.parametrize("change", [str.upper, str.lower, str.swapcase, lambda s: f"x{s}y", lambda s: s[:20]])
def test_a_secret_is_found_in_any_case_and_cut(change: Callable[[str], str]) -> None:
    """The text around it stays."""
    assert redact(f"before {change(KEY)}", KEY).lower().startswith("before ")
    assert KEY.lower()[:13] not in redact(f"before {change(KEY)}", KEY).lower()
    assert redact("nothing of it", KEY) == "nothing of it" and HIDDEN in redact(KEY, KEY)


def test_what_was_kept_before_it_was_known_is_redacted_when_packed() -> None:
    """In answers the key alone goes; what the engine wrote is what was measured."""
    private = Anonymiser(secrets=[KEY])
    assert private.answer(f"at /srv/harbour {KEY}") == f"at /srv/harbour {HIDDEN}"
    assert KEY not in private.text(f"key was {KEY}")


def test_an_engine_inherits_what_it_needs_and_no_keys() -> None:
    """Paths and settings of numerics libraries and devices; further names only where its recipe asks for them."""
    given = {
        "PATH": "/bin",
        "LC_ALL": "C",
        "CUDA_VISIBLE_DEVICES": "0",
        "OMP_NUM_THREADS": "2",
        "OFFICE_KEY": KEY,
        "GGML_API_KEY": KEY,
        "CLOUD_TOKEN": KEY,
        "HARBOUR": "x",
    }
    assert set(inherited(given)) == {"PATH", "LC_ALL", "CUDA_VISIBLE_DEVICES", "OMP_NUM_THREADS"}
    assert set(inherited(given, ["HARBOUR"])) - set(inherited(given)) == {"HARBOUR"}
