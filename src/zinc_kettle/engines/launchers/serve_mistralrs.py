"""The launcher of the package mistralrs, which has no server: requests are answered here, each in a thread of its own.

A request to this package is an iterator of chunks that waits in compiled code, so that a thread can walk it while
others do the same. What trials of 0.9.5 on processors taught is at the lines it explains.
"""

from __future__ import annotations

import argparse
import json
import os
import threading
import time
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from launcher_common import NOT_INSTALLED, NOT_LOADED, begin, end, parser, wait_for_parent

MAX_BODY_BYTES = 64 << 20
FEATURES = ("avx2", "avx512f", "avx512_bf16", "amx_tile", "fma", "f16c", "asimd", "sve")
"""Of a processor, such as the engine's kernels choose by."""


def arguments() -> argparse.ArgumentParser:
    """What it takes."""
    p: argparse.ArgumentParser = parser(__doc__)
    p.add_argument("--threads", type=int)
    p.add_argument("--cache-precision", choices=["f16", "f32"], default="f16")
    p.add_argument("--prompt-cache", action="store_true")
    return p


def main() -> None:
    """Load, listen, and wait for standard input to close."""
    voice = begin()  # the engine logs to standard output
    given = arguments().parse_args()
    if given.threads:
        os.environ["RAYON_NUM_THREADS"] = str(given.threads)  # read once, when the package is imported
    if given.cache_precision == "f32":
        os.environ["MISTRALRS_CPU_KV_F32"] = "1"
    os.environ["HF_HUB_OFFLINE"] = "1"
    os.environ.setdefault("RUST_LOG", "error")
    try:
        import mistralrs
    except ImportError:
        end(NOT_INSTALLED, "error: the engine's package mistralrs is not installed; try: make setup")
    voice.loading("mistralrs", build())
    start = time.monotonic_ns()
    try:
        runner = load(mistralrs, given)
    except Exception as error:  # noqa: BLE001 - whatever the package raises, its first line is why it did not load
        end(NOT_LOADED, f"error: {str(error).splitlines()[0]}")
    server = Server((given.host, given.port), Handler)
    server.serves = Served(mistralrs, runner, given)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    voice.ready(f"http://{given.host}:{server.server_address[1]}", start)
    wait_for_parent()


def build() -> str:
    """What its kernels find here."""
    try:
        with open("/proc/cpuinfo", encoding="utf-8") as file:  # noqa: PTH123
            found = next((line for line in file if line.startswith(("flags", "Features"))), "").split()
    except OSError:
        return ""
    return " ".join(name for name in FEATURES if name in found)


def load(package: Any, a: argparse.Namespace) -> Any:
    """Load the file.

    Raises:
        Exception: Whatever the package raises where it cannot.
    """
    path = a.model.resolve()
    which = package.Which.GGUF(quantized_model_id=str(path.parent), quantized_filename=path.name)
    return package.Runner(which=which, max_seqs=a.slots, prefix_cache_n=16 if a.prompt_cache else 0)


class Served:
    """The loaded model, its slots, and its context, of which the engine itself keeps no count."""

    def __init__(self, package: Any, runner: Any, a: argparse.Namespace) -> None:
        self.name = a.model.name
        self.context: int = a.context
        self._package, self._runner = package, runner
        self._slots = threading.Semaphore(a.slots)
        # Two prompts read at once fail ("not contiguous", "Already borrowed"), counting included: each has the engine
        # alone until its first token is out, so that this engine never reads prompts side by side.
        self._prefill = threading.Lock()

    def room(self, messages: list[dict[str, str]], wanted: int) -> int:
        """How many tokens may be written: what is wanted, or what the context has left.

        The few tokens of the chat template are not counted: only the engine itself could.

        Raises:
            ValueError: The prompt alone is longer than the context.
        """
        texts = [m["content"] for m in messages]
        if sum(len(text.encode()) for text in texts) + wanted <= self.context:
            return wanted  # no token is shorter than a byte, and counting would cost a millisecond
        with self._prefill:
            prompt = sum(len(self._runner.tokenize_text(text, False, None)) for text in texts)
        if prompt >= self.context:
            raise ValueError(f"{prompt} prompt tokens exceed the context of {self.context}")
        return min(wanted, self.context - prompt)

    def chunks(self, body: dict[str, Any]) -> Iterator[Any]:
        """The answer's chunks; holds a slot while it goes on, as other servers do.

        Raises:
            ValueError: The prompt does not fit.
            Exception: Whatever the engine raises.
        """
        room = self.room(body["messages"], int(body.get("max_tokens") or self.context))
        request = self._package.ChatCompletionRequest(
            messages=[{"role": m["role"], "content": m["content"]} for m in body["messages"]],
            model="default",
            stream=True,
            max_tokens=room,
            temperature=body.get("temperature"),
            ignore_eos=bool(body.get("ignore_eos")),
            truncate_sequence=False,
        )
        with self._slots:
            with self._prefill:
                answer = iter(self._runner.send_chat_completion_request(request))
                first = next(answer, None)
            if first is not None:
                yield first
                yield from answer


class Server(ThreadingHTTPServer):
    """Threads that do not keep the process."""

    daemon_threads = True
    request_queue_size = 512
    serves: Served


class Handler(BaseHTTPRequestHandler):
    """One connection."""

    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True
    server: Server

    def do_GET(self) -> None:
        """Health."""
        if self.path == "/health":
            self._plain({"status": "ok"})
        elif self.path == "/v1/models":
            self._plain({"object": "list", "data": [{"id": self.server.serves.name, "object": "model"}]})
        else:
            self._fail("not here", 404)

    def do_POST(self) -> None:
        """A chat."""
        size = int(self.headers.get("content-length") or 0)
        if size > MAX_BODY_BYTES:
            self._fail("the body is too large", 413)
            return
        try:
            body = json.loads(self.rfile.read(size))
            if self.path == "/v1/chat/completions":
                self._chat(body)
            else:
                self._fail("not here", 404)
        except (KeyError, TypeError, ValueError) as error:
            self._fail(f"the body cannot be used: {error}", 400)

    def _chat(self, body: dict[str, Any]) -> None:
        served = self.server.serves
        chunks = served.chunks(body)
        try:
            first = next(chunks, None)
        except (KeyError, TypeError, ValueError):
            raise
        except Exception as error:  # noqa: BLE001 - the engine's own words are the answer
            self._fail(str(error), 500)
            return
        self._head("text/event-stream", "transfer-encoding", "chunked")
        try:
            self._events(served, first, chunks)
            self.wfile.write(b"0\r\n\r\n")
        except OSError:
            self.close_connection = True  # the client has gone; leaving the iterator ends the request
        finally:
            chunks.close()  # type: ignore[attr-defined]

    def _events(self, served: Served, first: Any, chunks: Iterator[Any]) -> None:
        head = {"id": "chat", "object": "chat.completion.chunk", "created": int(time.time()), "model": served.name}
        usage, reason, chunk = None, None, first
        try:
            while chunk is not None:
                usage = chunk.usage or usage
                for choice in chunk.choices:
                    reason = choice.finish_reason or reason
                    if choice.delta.content:
                        self._event({**head, "choices": [_choice({"content": choice.delta.content}, None)]})
                chunk = next(chunks, None)
        except OSError:
            raise
        except Exception as error:  # noqa: BLE001 - the engine's own words end the answer
            self._event({"error": {"message": str(error), "type": "engine"}})
            return
        last: dict[str, Any] = {**head, "choices": [_choice({}, reason)]}
        if usage is not None:
            names = ("prompt_tokens", "completion_tokens", "total_tokens")
            last["usage"] = {name: getattr(usage, name) for name in names}
            last["own"] = {
                "prompt_tokens": usage.prompt_tokens,
                "prompt_s": usage.total_prompt_time_sec,
                "output_tokens": usage.completion_tokens,
                "output_s": usage.total_completion_time_sec,
            }
        self._event(last)
        self._chunk(b"data: [DONE]\n\n")

    def _event(self, value: dict[str, Any]) -> None:
        self._chunk(b"data: " + json.dumps(value, separators=(",", ":")).encode() + b"\n\n")

    def _chunk(self, data: bytes) -> None:
        self.wfile.write(f"{len(data):x}\r\n".encode() + data + b"\r\n")

    def _plain(self, value: dict[str, Any], status: int = 200) -> None:
        data = json.dumps(value).encode()
        self._head("application/json", "content-length", str(len(data)), status)
        self.wfile.write(data)

    def _fail(self, why: str, status: int) -> None:
        self._plain({"error": {"message": why, "type": "engine"}}, status)

    def _head(self, kind: str, name: str, value: str, status: int = 200) -> None:
        self.send_response(status)
        self.send_header("content-type", kind)
        self.send_header(name, value)
        self.end_headers()

    log_message: Callable[..., None] = lambda *_: None


def _choice(delta: dict[str, Any], reason: str | None) -> dict[str, Any]:
    return {"index": 0, "delta": delta, "finish_reason": reason}


if __name__ == "__main__":
    main()
