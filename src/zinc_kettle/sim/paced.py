"""A lean server that emits tokens at scheduled times and stamps each send on the same clock.

Started as `python -m zinc_kettle.sim.paced`; prints one JSON line with its address; ends when its input closes.
`GET /sent` gives, for each answered request in order, the times of its sends: the truth to hold a client against.
"""

from __future__ import annotations

import asyncio
import json
import sys
import time
from dataclasses import replace
from typing import Any

from zinc_kettle.sim.http import EVENT_STREAM, chunk, connection, plain
from zinc_kettle.sim.script import Script

KEPT_REQUESTS = 4096
STALL_S = 30.0
DRIP_S = 0.05
RAW_FAULTS = {
    "bad-json": b"data: {not json\n\n",
    "bad-utf8": b'data: {"choices":[{"delta":{"content":"\xff\xfe"}}]}\n\n',
}


class PacedServer:
    """Serves chat completions by script."""

    def __init__(self) -> None:
        self.sent: list[dict[str, Any]] = []
        self.failed: dict[str, int] = {}

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One connection, one request after another."""
        await connection(reader, writer, self._answer)

    async def _answer(self, line: str, body: bytes, writer: asyncio.StreamWriter) -> bool:
        if line.startswith("GET /sent"):
            plain(writer, json.dumps(self.sent).encode())
        elif line.startswith("GET /health"):
            plain(writer, b'{"status":"ok"}')
        elif line.startswith("POST /v1/chat/completions"):
            return await _Answer(self, writer, json.loads(body)).run()
        else:
            plain(writer, b"not here", status=404)
        await writer.drain()
        return True


class _Answer:
    """One streamed answer."""

    def __init__(self, server: PacedServer, writer: asyncio.StreamWriter, body: dict[str, Any]) -> None:
        self._server = server
        self._writer = writer
        self._script = Script.of(body.get("paced"))
        self._want = int(body.get("max_tokens", 16))
        words = sum(len(m["content"].split()) for m in body["messages"])
        self._prompt = words + 5
        self._start = time.monotonic_ns()
        if self._script.aligned:
            beat = int(self._script.gap_ms * 1e6)
            self._start += -self._start % beat
        self._text = "".join(str(m["content"]) for m in body["messages"])
        self._truth: dict[str, Any] = {
            "start_ns": self._start,
            "sends_ns": [],
            "tokens": [],
            "label": self._script.label,
        }
        self._truth["messages"] = len(body["messages"])
        if len(server.sent) < KEPT_REQUESTS:
            server.sent.append(self._truth)

    async def run(self) -> bool:
        """Emit by schedule; False when the connection is not to be used again."""
        script = self._script
        faults = self._server.failed
        if script.fails and faults.get(self._text, 0) >= script.fails:
            script = self._script = replace(script, fault="none")
        faults[self._text] = faults.get(self._text, 0) + 1
        if script.fault == "status":
            more = f"Retry-After: {script.retry_after_s}\r\n" if script.retry_after_s else ""
            plain(self._writer, b'{"error":{"message":"by script"}}', status=script.status, more=more)
            await self._writer.drain()
            return True
        if script.fault == "reset-early":
            self._writer.transport.abort()
            return False
        if script.fault == "huge-header":
            self._writer.write(b"HTTP/1.1 200 OK\r\n")
            for _ in range(64):
                self._writer.write(b"X-Filler: " + b"x" * 4_096 + b"\r\n")
            await self._writer.drain()
            return False
        if script.fault == "wrong-type":
            plain(self._writer, b"<html>a page, not a stream</html>", kind="text/html")
            await self._writer.drain()
            return True
        self._writer.write(EVENT_STREAM)
        if script.role_first:
            self._event({"choices": [{"index": 0, "delta": {"role": "assistant", "content": None}}]})
        done = await self._tokens()
        if done is None:
            return False
        self._end(done)
        await self._writer.drain()
        return True

    async def _tokens(self) -> int | None:
        script = self._script
        total = min(self._want, script.stop_after) if script.stop_after else self._want
        done = chunks = 0
        while done < total or script.fault == "endless":
            step = max(1, min(script.per_chunk, total - done))
            await _until(self._due(done + step))
            done += step
            chunks += 1
            if script.fault != "none" and done > script.fault_after and not await self._fault():
                return None
            if self._writer.is_closing():
                return None
            if script.empty_every and chunks % script.empty_every == 0:
                self._event({"choices": [{"index": 0, "delta": {"content": ""}}]})
            self._token_chunk(done, step)
            await self._writer.drain()
        return done

    def _due(self, token: int) -> int:
        """When the token of this number, from 1, is due."""
        script = self._script
        beat = -(-token // script.burst) * script.burst - 1
        late_ms = script.jitter_ms * (token * 7 % 11) / 10
        return self._start + int((script.first_ms + script.gap_ms * beat + late_ms) * 1e6)

    def _token_chunk(self, done: int, step: int) -> None:
        script = self._script
        text = script.word * step
        delta: dict[str, Any] = {"reasoning_content": text} if script.reasoning else {"content": text}
        if script.fault == "tool-calls":
            delta = {"tool_calls": [{"index": 0, "function": {"arguments": text}}]}
        if script.fault == "empty":
            delta = {"content": ""}
        event: dict[str, Any] = {"choices": [{"index": 0, "delta": delta, "finish_reason": None}]}
        if script.timings:
            event["timings"] = self._timings(done)
        if script.comments:
            self._raw(b": still here\n\n")
        data = self._encoded(event)
        self._truth["sends_ns"].append(time.monotonic_ns())
        self._truth["tokens"].append(step)
        self._raw(data)

    def _timings(self, done: int) -> dict[str, float]:
        script = self._script
        return {
            "cache_n": script.cached,
            "prompt_n": self._prompt - script.cached,
            "prompt_ms": script.first_ms,
            "predicted_n": done,
            "predicted_ms": script.gap_ms * (done - 1),
        }

    async def _fault(self) -> bool:
        """Misbehave; True when the answer goes on all the same."""
        fault = self._script.fault
        if fault == "stall":
            await asyncio.sleep(STALL_S)
        if fault in {"reset", "stall"}:
            self._writer.transport.abort()
            return False
        if fault == "close":
            self._writer.close()
            return False
        if fault == "drip":
            return await self._drip()
        if fault in RAW_FAULTS:
            self._raw(RAW_FAULTS[fault])
        elif fault == "huge-line":
            for _ in range(64):
                self._raw(b"x" * 65_536)
                await self._writer.drain()
        elif fault == "error-event":
            self._event({"error": {"message": "by script"}})
        return True

    async def _drip(self) -> bool:
        """Bytes that keep coming and never say anything."""
        while not self._writer.is_closing():
            self._raw(b": drip\n\n")
            await self._writer.drain()
            await asyncio.sleep(DRIP_S)
        return False

    def _end(self, done: int) -> None:
        script = self._script
        reason = "length" if done >= self._want else "stop"
        self._event({"choices": [{"index": 0, "delta": {}, "finish_reason": reason}]})
        if script.usage:
            usage: dict[str, Any] = {"prompt_tokens": self._prompt, "completion_tokens": done}
            if script.bad_usage:
                usage["completion_tokens"] = -5 if script.bad_usage == "negative" else 10**15
            usage["prompt_tokens_details"] = {"cached_tokens": script.cached}
            last: dict[str, Any] = {"choices": [], "usage": usage}
            if script.timings:
                last["timings"] = self._timings(done)
            self._event(last)
        if script.fault != "no-end":
            self._raw(b"data: [DONE]\n\n")
        self._writer.write(b"0\r\n\r\n")

    def _event(self, value: dict[str, Any]) -> None:
        self._raw(self._encoded(value))

    def _encoded(self, value: dict[str, Any]) -> bytes:
        text = json.dumps(value, ensure_ascii=False)
        if self._script.multi_line:
            cut = text.index(",") + 1 if "," in text else 1
            text = text[:cut] + "\ndata: " + text[cut:]
        return f"data: {text}\n\n".encode()

    def _raw(self, data: bytes) -> None:
        if self._script.crlf:
            data = data.replace(b"\n", b"\r\n")
        if self._script.split and b"\xc4" in data:
            cut = data.index(b"\xc4") + 1
            chunk(self._writer, data[:cut])
            chunk(self._writer, data[cut:])
        else:
            chunk(self._writer, data)


async def _until(due_ns: int) -> None:
    wait = (due_ns - time.monotonic_ns()) / 1e9
    if wait > 0:
        await asyncio.sleep(wait)


async def main() -> None:
    """Serve on a free port of 127.0.0.1 until standard input closes."""
    server = await asyncio.start_server(PacedServer().serve, "127.0.0.1", 0, limit=64 << 20, backlog=4096)
    port = server.sockets[0].getsockname()[1]
    sys.stdout.write(json.dumps({"address": f"http://127.0.0.1:{port}"}) + "\n")
    sys.stdout.flush()
    loop = asyncio.get_running_loop()
    async with server:
        await loop.run_in_executor(None, sys.stdin.buffer.read)


if __name__ == "__main__":
    asyncio.run(main())
