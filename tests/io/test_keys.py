"""Keys and certificates: used, and never told; TLS is verified."""

from __future__ import annotations

import asyncio
import datetime
import ssl
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

import psutil
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from tests.build import study
from tests.driving import drive_all, scripted
from zinc_kettle.app.build import experiment
from zinc_kettle.config import Places
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.core.plan.study import Repeats
from zinc_kettle.core.redact import HIDDEN
from zinc_kettle.errors import DriverError
from zinc_kettle.link.process import DriverProcess
from zinc_kettle.present.json import cell_json
from zinc_kettle.session import progress as p
from zinc_kettle.store.reading import open_run
from zinc_kettle.store.store import KettleStore
from zinc_kettle.wire.messages import Episode, Setup

KEY = "sesame-4711-of-the-harbour"


@asynccontextmanager
async def echo(*, tls: ssl.SSLContext | None = None, status: int = 200) -> AsyncIterator[tuple[str, list[bytes]]]:
    """A server that says the key back wherever it can: in an error, or in its text."""
    heads: list[bytes] = []

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            heads.append(await reader.readuntil(b"\r\n\r\n"))
        except (asyncio.IncompleteReadError, ConnectionError):
            return
        if status != 200:
            body = f"no such key {KEY}".encode()
            writer.write(b"HTTP/1.1 %d X\r\nContent-Length: %d\r\n\r\n%b" % (status, len(body), body))
        else:
            told = b'data: {"choices":[{"delta":{"content":" you said %b"}}]}\n\n' % KEY.encode()
            usage = b'data: {"choices":[],"usage":{"prompt_tokens":64,"completion_tokens":4}}\n\ndata: [DONE]\n\n'
            writer.write(b"HTTP/1.1 200 X\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\n")
            writer.write(told * 4 + usage)
        await writer.drain()
        writer.close()

    server = await asyncio.start_server(serve, "127.0.0.1", 0, ssl=tls)
    async with server:
        port = server.sockets[0].getsockname()[1]
        yield f"{'https' if tls else 'http'}://localhost:{port}" if tls else f"http://127.0.0.1:{port}", heads


def key_file(folder: Path, *, mode: int = 0o600, text: str = KEY + "\n") -> Path:
    """A key in a file."""
    path = folder / "harbour-key"
    path.write_text(text)
    path.chmod(mode)
    return path


async def test_a_key_from_a_file_reaches_the_server_and_nobody_else(tmp_path: Path) -> None:
    """In the header; in no timeline, though the server says it back."""
    async with echo() as (url, heads):
        (t,), _ = await drive_all(Setup(url, "m", key_file=str(key_file(tmp_path))), scripted(1, 4))
    assert f"Authorization: Bearer {KEY}".encode() in heads[0]
    assert t.usable and HIDDEN in t.text and KEY not in repr(t)
    async with echo(status=401) as (url, _):
        (t,), _ = await drive_all(Setup(url, "m", key_file=str(key_file(tmp_path))), scripted(1, 4))
    assert t.fault == "http-401" and t.error == f"HTTP 401: no such key {HIDDEN}"


@pytest.mark.parametrize(
    ("mode", "text", "words"),
    [
        (0o644, KEY, "may be read by others"),
        (0o600, "", "hold a usable key"),
        (0o600, "a b", "hold a usable key"),
        (0o600, "schlüssel", "cannot be read"),
        (0o600, "k" * 10_000, "hold a usable key"),
    ],
)
async def test_unusable_key_files_say_why(tmp_path: Path, mode: int, text: str, words: str) -> None:
    """A clause, without the key in it."""
    setup = Setup("http://127.0.0.1:9", "m", key_file=str(key_file(tmp_path, mode=mode, text=text)))
    with pytest.raises(DriverError, match=words) as caught:
        await drive_all(setup, scripted(1, 1))
    assert KEY not in str(caught.value)
    with pytest.raises(DriverError, match="cannot be read"):
        await drive_all(Setup("http://127.0.0.1:9", "m", key_file=str(tmp_path / "none")), scripted(1, 1))


async def test_a_study_with_a_key_leaves_no_trace_of_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Not in the store's bytes, not in records, not in what the screen is told, not in any process's arguments."""
    monkeypatch.setenv("HARBOUR_KEY", KEY)
    events: list[p.Event] = []
    lines: list[str] = []

    def emit(event: p.Event) -> None:
        events.append(event)
        me = psutil.Process()
        lines.extend(" ".join(q.cmdline()) for q in (me, *me.children(recursive=True)) if q.is_running())

    async with echo() as (url, heads):
        plan = study(
            {"concurrency": (1, 2)},
            hold={"output_tokens": 4},
            repeats=Repeats(count=1, requests=2),
            endpoint=Endpoint(url, key_variable="HARBOUR_KEY"),
        )
        store = KettleStore(tmp_path / "s.db")
        await experiment(plan, Places(tmp_path, tmp_path / "s.db"), store, emit).run()
    assert any(KEY.encode() in head for head in heads)
    began = next(e for e in events if isinstance(e, p.Began))
    results = open_run(store, began.run_id)
    assert results.cells[0].done == 1
    told = repr(events) + repr([cell_json(results, c) for c in results.cells]) + " ".join(lines)
    told += repr([c.kept_repeats for c in results.cells])
    store.close()
    assert KEY not in told and "zinc_kettle.driver" in told
    for path in tmp_path.rglob("*"):
        if path.is_file():
            assert KEY.encode() not in path.read_bytes(), path.name


def certificate(folder: Path) -> tuple[Path, ssl.SSLContext]:
    """A certificate for localhost signed by itself, and a server's context with it."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "localhost")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    public, private = folder / "office.pem", folder / "office.key"
    public.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    private.write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(public, private)
    return public, context


async def test_tls_is_verified(tmp_path: Path) -> None:
    """An unknown certificate is a fault; one the person trusts by name is used, with our own stamps."""
    public, context = certificate(tmp_path)
    async with echo(tls=context) as (url, heads):
        (refused,), _ = await drive_all(Setup(url, "m"), scripted(1, 4))
        assert refused.fault == "tls" and not heads
        (t,), _ = await drive_all(Setup(url, "m", ca_file=str(public)), scripted(1, 4))
        assert t.usable and t.stamp_source == "user"
        with pytest.raises(DriverError, match="certificates"):
            await drive_all(Setup(url, "m", ca_file=str(tmp_path / "none.pem")), scripted(1, 1))


async def test_output_cannot_speak_to_the_terminal(tmp_path: Path) -> None:
    """Escapes in an answer, in an error and in a live tail are made visible, not obeyed."""
    evil = "\\u001b]0;x\\u0007owned\\u001b[2J"

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.readuntil(b"\r\n\r\n")
        writer.write(b"HTTP/1.1 200 X\r\nContent-Type: text/event-stream\r\n\r\n")
        writer.write(f'data: {{"choices":[{{"delta":{{"content":"{evil}"}}}}]}}\n\n'.encode())
        await writer.drain()
        await asyncio.sleep(0.6)
        writer.write(f'data: {{"error":"{evil}"}}\n\n'.encode())
        writer.close()

    server = await asyncio.start_server(serve, "127.0.0.1", 0)
    driver = await DriverProcess.spawn()
    told: list[str] = []
    try:
        async with server:
            await driver.aim(Setup(f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}", "m"))
            await driver.run(
                Episode("e", 1, scripted(1, 4), tick_s=0.1),
                on_tick=lambda t: told.append(repr(t)),
                on_timeline=lambda t: told.append(f"{t.text}{t.error}"),
            )
    finally:
        await driver.close()
    assert "owned" in "".join(told) and "\x1b" not in "".join(told) and "\x07" not in "".join(told)
