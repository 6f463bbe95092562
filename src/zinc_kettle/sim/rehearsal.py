"""A simulated rig as a real HTTP server: the open chat protocol, health, metrics, and a hand on its engine.

Started as `python -m zinc_kettle.sim.rehearsal NAME`; prints a JSON line with its address; ends with its input.
Everything it says carries the word simulated.
"""

from __future__ import annotations

import argparse
import asyncio
import json
import math
import os
import random
import sys
import time
from typing import Any

from zinc_kettle.sim import http
from zinc_kettle.sim.engine import FAULTS, TEMPLATE_TOKENS, Job, LoadFailedError, SimEngine
from zinc_kettle.sim.fleet import SIM_RIGS

STALL_S = 30.0
SLOW_S = 0.4
WORDS = ("tern", "quay", "log", "tide", "swell", "north", "mole", "fog", "pilot", "berth", "calm", "vessel")
NATURAL_LOG, NATURAL_SIGMA = math.log(60), 0.5
"""Of the lognormal lengths that answers have where they end by themselves, in tokens."""


class Rehearsal:
    """Serves one simulated rig."""

    def __init__(self, engine: SimEngine) -> None:
        self.engine = engine

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One connection."""
        await http.connection(reader, writer, self._answer)

    async def _answer(self, line: str, body: bytes, writer: asyncio.StreamWriter) -> bool:
        method, path = [*line.split(" "), "", ""][:2]
        value: dict[str, Any] = {}
        if body:
            try:
                value = json.loads(body)
            except ValueError:
                http.plain(writer, _error("the body is not JSON"), status=400)
                await writer.drain()
                return True
        if method == "POST" and path == "/v1/chat/completions":
            return await self._chat(value, writer)
        status, answer = await self._other(f"{method} {path}", value)
        kind = "text/plain; version=0.0.4" if path == "/metrics" else "application/json"
        http.plain(writer, answer, status=status, kind=kind)
        await writer.drain()
        return True

    async def _other(self, what: str, value: dict[str, Any]) -> tuple[int, bytes]:
        engine = self.engine
        if what == "GET /health":
            return (200, b'{"status":"ok"}') if engine.shape else (503, _error("no model is loaded"))
        if what == "GET /metrics":
            return 200, metrics(engine).encode()
        if what == "GET /v1/models":
            return 200, json.dumps({"data": [{"id": engine.model, "simulated": True}] if engine.model else []}).encode()
        if what == "GET /rehearse/facts":
            return 200, json.dumps({**engine.rig.facts(), "simulated": True}).encode()
        if what == "POST /rehearse/load":
            return await self._load(value)
        if what == "POST /rehearse/unload":
            await engine.unload()
            return 200, b"{}"
        if what == "POST /rehearse/fault":
            if value.get("kind") not in FAULTS:
                return 400, _error(f"the fault must be one of {', '.join(FAULTS)}")
            engine.faults.append(value)
            return 200, b"{}"
        return 404, _error("not here")

    async def _load(self, settings: dict[str, Any]) -> tuple[int, bytes]:
        try:
            seconds = await self.engine.load(settings)
        except LoadFailedError as error:
            return 507, _error(str(error))
        placed = self.engine.placed
        assert placed is not None
        main, device = self.engine.memory()
        told = {
            "simulated": True,
            "load_s": seconds,
            "state": placed.state,
            "layers_on_devices": placed.layers_on_devices,
            "main_bytes": main,
            "device_bytes": device,
        }
        return 200, json.dumps(told).encode()

    async def _chat(self, body: dict[str, Any], writer: asyncio.StreamWriter) -> bool:
        engine = self.engine
        fault = engine.faults.popleft() if engine.faults and engine.faults[0]["kind"] != "load" else None
        if engine.shape is None or (fault and fault["kind"] == "status"):
            status = int(fault.get("status", 503)) if fault else 503
            http.plain(writer, _error("simulated fault" if fault else "no model is loaded"), status=status)
            await writer.drain()
            return True
        words = [w for m in body.get("messages", []) for w in str(m.get("content", "")).split()]
        prompt = ["<template>"] * TEMPLATE_TOKENS + words
        room = engine.wish.context - len(prompt)
        if room < 1:
            http.plain(writer, _error(f"{len(prompt)} prompt tokens exceed the context"), status=400)
            await writer.drain()
            return True
        most = min(int(body.get("max_tokens") or 16), room)
        job = engine.submit(prompt, most if body.get("ignore_eos") else min(most, natural_length(words)))
        return await self._stream(job, body, writer, fault)

    async def _stream(
        self, job: Job, body: dict[str, Any], writer: asyncio.StreamWriter, fault: dict[str, Any] | None
    ) -> bool:
        writer.write(http.EVENT_STREAM)
        http.event(writer, {"choices": [{"index": 0, "delta": {"role": "assistant", "content": None}}]})
        after = int(fault.get("after", 3)) if fault else -1
        told = None
        try:
            while job.produced < job.wanted or not job.tokens.empty():
                count, prompt_ms, predicted_ms = await job.tokens.get()
                if count < 0:
                    return False
                told = _timings(job, count, prompt_ms, predicted_ms)
                text = (" " if count > 1 else "") + WORDS[(count * 7 + len(job.prompt)) % len(WORDS)]
                value: dict[str, Any] = {"choices": [{"index": 0, "delta": {"content": text}}]}
                if body.get("timings_per_token"):
                    value["timings"] = told
                http.event(writer, value)
                await writer.drain()
                if fault and count >= after and not await _misbehave(fault["kind"], writer):
                    return False
        finally:
            job.dropped = True
        finish = "stop" if job.wanted < int(body.get("max_tokens") or 16) else "length"
        http.event(writer, {"choices": [{"index": 0, "delta": {}, "finish_reason": finish}]})
        usage = {
            "prompt_tokens": len(job.prompt),
            "completion_tokens": job.produced,
            "prompt_tokens_details": {"cached_tokens": job.cached},
        }
        http.event(writer, {"choices": [], "usage": usage, "timings": told})
        http.chunk(writer, b"data: [DONE]\n\n")
        writer.write(b"0\r\n\r\n")
        await writer.drain()
        return True


def natural_length(words: list[str]) -> int:
    """Where an answer ends by itself: a made-up length that is the same for the same prompt, salt included."""
    return max(4, round(random.Random(" ".join(words)).lognormvariate(NATURAL_LOG, NATURAL_SIGMA)))


async def _misbehave(kind: str, writer: asyncio.StreamWriter) -> bool:
    """Do what a fault says; True when the stream goes on."""
    if kind == "die":
        os._exit(9)
    if kind == "stall":
        await asyncio.sleep(STALL_S)
    if kind == "slow":
        await asyncio.sleep(SLOW_S)
        return True
    if kind == "reset":
        writer.transport.abort()
    writer.close()
    return False


def _timings(job: Job, count: int, prompt_ms: float, predicted_ms: float) -> dict[str, Any]:
    return {
        "cache_n": job.cached,
        "prompt_n": len(job.prompt) - job.cached,
        "prompt_ms": prompt_ms,
        "predicted_n": count,
        "predicted_ms": predicted_ms,
    }


def _error(text: str) -> bytes:
    return json.dumps({"error": {"message": text, "simulated": True}}).encode()


def metrics(engine: SimEngine) -> str:
    """Memory, load, power and heat in the Prometheus text format, as many engines offer them."""
    engine.settle()
    main, device = engine.memory()
    rows = (
        ("simulated", "gauge", "1: nothing here is measured", 1),
        ("memory_bytes", "gauge", "main memory of the engine", main),
        ("device_memory_bytes", "gauge", "memory of the engine on devices", device),
        ("device_load_share", "gauge", "share of the time in which devices work", round(engine.device_load, 4)),
        ("kv_cache_used_bytes", "gauge", "KV cache that holds tokens", round(engine.kv_used_bytes())),
        ("requests_running", "gauge", "requests being worked on", len(engine.active)),
        ("requests_waiting", "gauge", "requests in the queue", len(engine.waiting)),
        ("power_watts", "gauge", "power of the whole rig", round(engine.power_w, 4)),
        ("energy_joules_total", "counter", "energy of the whole rig", round(engine.body.joules, 6)),
        ("processor_celsius", "gauge", "temperature of the processor", round(engine.body.celsius, 2)),
        ("clock_share", "gauge", "share of full speed that heat allows", round(engine.body.clock, 5)),
    )
    out = []
    for name, kind, text, value in rows:
        if name.startswith("device_") and not engine.rig.devices:
            continue
        out += [f"# HELP rehearsal_{name} {text}", f"# TYPE rehearsal_{name} {kind}", f"rehearsal_{name} {value}"]
    each = (
        ("bytes", "memory in use"),
        ("busy_share", "share of the time in which it works"),
        ("watts", "power"),
        ("celsius", "temperature"),
    )
    for at, (what, text) in enumerate(each if engine.rig.devices else ()):
        name = f"rehearsal_each_device_{what}"
        out += [f"# HELP {name} of each device: {text}", f"# TYPE {name} gauge"]
        out += [f'{name}{{device="{i:02}"}} {told[at]}' for i, told in enumerate(engine.each_device(), start=1)]
    return "\n".join(out) + "\n"


async def main() -> None:
    """Serve one rig until standard input closes."""
    parser = argparse.ArgumentParser(prog="rehearsal rig")
    parser.add_argument("rig", choices=sorted(SIM_RIGS))
    parser.add_argument("--port", type=int, default=0)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    engine = SimEngine(SIM_RIGS[arguments.rig], seed=arguments.seed)
    server = await asyncio.start_server(Rehearsal(engine).serve, "127.0.0.1", arguments.port, limit=64 << 20)
    port = server.sockets[0].getsockname()[1]
    sys.stdout.write(json.dumps({"address": f"http://127.0.0.1:{port}", "simulated": True, "at": time.time()}) + "\n")
    sys.stdout.flush()
    loop = asyncio.get_running_loop()
    async with server:
        await loop.run_in_executor(None, sys.stdin.buffer.read)
        os._exit(0)


if __name__ == "__main__":
    asyncio.run(main())
