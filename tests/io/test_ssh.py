"""Other machines over a real SSH server, in network namespaces where they are to be had."""

from __future__ import annotations

import asyncio
import shutil
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from tests.build import RECIPES, spec
from tests.hosts import SSHD, Host, ssh_hosts
from zinc_kettle.core.rig import RigPlan
from zinc_kettle.engines.remote import RemoteLauncher, RemoteModels
from zinc_kettle.errors import EngineError, RigError
from zinc_kettle.formats.gguf_model import read_gguf_head
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.rigs.adapters import SshRig
from zinc_kettle.rigs.ssh import SshShell
from zinc_kettle.rigs.ssh_watch import RemoteSampler

PYTHON = sys.executable
SYSTEM_PYTHON = next((p for p in ("/usr/bin/python3",) if Path(p).exists()), PYTHON)
"""A Python there that has none of our packages, where this system has one."""


@pytest.fixture(scope="module")
def host(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Host]:
    """One test host."""
    if not Path(SSHD).exists() or shutil.which("ssh-keygen") is None:
        raise RuntimeError("no SSH server to test against; on Debian: apt-get install openssh-server")
    with ssh_hosts(tmp_path_factory.mktemp("ssh"), ["skerry-mini"]) as hosts:
        yield hosts[0]


def plan(host: Host, **changes: str) -> RigPlan:
    """The rig file's line for it."""
    return RigPlan(host.name, "ssh", host=host.name, ssh_config=str(host.config), python=SYSTEM_PYTHON, **changes)  # type: ignore[arg-type]


async def test_facts_and_who_is_busy_need_only_python(host: Host) -> None:
    """Gathered by a script that is sent there; the same machine tells the same as here."""
    rig = SshRig(plan(host))
    try:
        found = await rig.facts()
        busy = await rig.busy()
    finally:
        await rig.close()
    from zinc_kettle.rigs import local

    here = local.machine_facts()
    for name in ("processor", "memory_bytes", "hardware_threads", "system"):
        assert found[name] == here[name]
    assert busy is not None and busy["memory_total_bytes"] > 1e9


async def test_a_host_whose_key_is_not_known_is_refused(tmp_path: Path) -> None:
    """No figure is worth talking to a stranger; nor is a host that is not there waited for."""
    with ssh_hosts(tmp_path / "k", ["stranger"], known=False) as hosts:
        shell = SshShell("stranger", ssh_config=str(hosts[0].config))
        with pytest.raises(RigError, match="host key of stranger is not known"):
            await shell.run(["true"])
        config = hosts[0].config
    with pytest.raises(RigError, match="stranger cannot be reached"):
        await SshShell("stranger", ssh_config=str(config)).run(["true"])


async def test_a_key_it_does_not_take(host: Host, tmp_path: Path) -> None:
    """Keys only; a password is never asked for."""
    text = host.config.read_text().replace("IdentityFile", "#")
    (tmp_path / "config").write_text(text + "  IdentityAgent none\n")
    with pytest.raises(RigError, match="accepts none of your keys"):
        await SshShell(host.name, ssh_config=str(tmp_path / "config")).run(["true"])


async def test_commands_end_and_fail_clearly(host: Host, tmp_path: Path) -> None:
    """What a program says on its standard error is in the error; words are never read by a shell; waits are bounded."""
    shell = SshShell(host.name, ssh_config=str(host.config))
    try:
        assert (await shell.run(["echo", "a b; $HOME `x`"])).strip() == "a b; $HOME `x`"
        with pytest.raises(RigError, match="No such file"):
            await shell.run(["ls", "/not/here"])
        with pytest.raises(RigError, match="did not end"):
            await shell.run(["sleep", "30"], limit_s=0.5)
        (tmp_path / "a.gguf").write_bytes(b"GGUF1234")
        assert await shell.files(str(tmp_path)) == {"a.gguf": 8}
        assert await shell.head(str(tmp_path / "a.gguf"), 4) == b"GGUF"
        with pytest.raises(RigError, match="cannot be listed"):
            await shell.files("/not/here")
    finally:
        await shell.close()


async def test_an_engine_there(host: Host, home: Path) -> None:
    """Found, started, reached through a forwarded port, sampled with its clock set against ours, and ended."""
    shell = SshShell(host.name, ssh_config=str(host.config))
    models = RemoteModels(shell, str(home / "models"), host.name)
    wanted = spec(context=256, load_mode="copied", rig=host.name)
    try:
        path, size = await models.find("brine-15m", "Q8_0")
        shape = read_gguf_head(await models.header(path), Path(path).name, size)
        assert shape.layers == 10 and shape.main_type == "Q8_0"
        with pytest.raises(EngineError, match=r"has no brine-15m\.F16"):
            await models.find("brine-15m", "F16")
        launcher = RemoteLauncher(shell, RECIPES["built-in"], python=PYTHON, rig=host.name)
        file = ModelFile("brine-15m", "Q8_0", Path(path), size)
        engine = await launcher.start(wanted, file, launch_id="l")
        try:
            assert engine.pid and engine.launch.loaded_bytes and engine.facts["reached"] == "through a forwarded port"
            trip = await engine.round_trip_s()
            assert trip is not None and 0 < trip < 5
            sampler = await RemoteSampler.start(shell, SYSTEM_PYTHON, engine.pid)
            watch = sampler.watch()
            start = time.monotonic_ns()
            async with httpx.AsyncClient(timeout=600, trust_env=False) as http:
                body = {"messages": [{"role": "user", "content": "bada " * 60}], "max_tokens": 60, "ignore_eos": True}
                answer = await http.post(f"{engine.base_url}/v1/chat/completions", json=body)
            assert answer.json()["usage"]["completion_tokens"] == 60
            await asyncio.sleep(0.4)
            trace, machine = watch.end(driver_cpu_ns=0)
            await sampler.close()
        finally:
            await engine.stop()
        # One machine, one clock: what is added to its clock is no more than the way there and back can hide.
        assert abs(sampler.offset_ns) <= sampler.error_ns + 1_000_000
        assert trace.window(start, time.monotonic_ns()).resident_bytes.max() > 10_000_000
        assert trace.cpu_ns[-1] > trace.cpu_ns[0] and machine.cores >= 1
        assert engine.launch.load_ns and not engine.alive()
        with pytest.raises(RigError):
            await shell.run(["kill", "-0", str(engine.pid)])
        broken = spec(context=1 << 22, rig=host.name)
        bad = ModelFile("brine-15m", "Q8_0", home / "models" / "none.gguf", 1)
        with pytest.raises(EngineError) as caught:
            await launcher.start(broken, bad, launch_id="m")
        assert caught.value.last_words and str(home) not in caught.value.last_words
    finally:
        await shell.close()


async def test_an_engine_reached_directly(host: Host, home: Path) -> None:
    """Without a forwarded port, where the rig's address can be reached."""
    shell = SshShell(host.name, ssh_config=str(host.config))
    wanted = spec(context=256, load_mode="copied", rig=host.name)
    file = ModelFile("brine-15m", "Q8_0", home / "models" / "brine-15m.Q8_0.gguf", 1)
    launcher = RemoteLauncher(shell, RECIPES["built-in"], python=PYTHON, rig=host.name, direct=host.address)
    engine = await launcher.start(wanted, file, launch_id="l")
    try:
        assert engine.base_url.startswith(f"http://{host.address}:") and engine.facts["reached"] == "directly"
        assert await engine.round_trip_s() is not None
    finally:
        await engine.stop()
        await shell.close()


async def test_an_engine_dies_with_its_connection(host: Host, home: Path) -> None:
    """The tool may be killed: nothing is left running there."""
    shell, other = (SshShell(host.name, ssh_config=str(host.config)) for _ in range(2))
    wanted = spec(context=256, load_mode="copied", rig=host.name)
    file = ModelFile("brine-15m", "Q8_0", home / "models" / "brine-15m.Q8_0.gguf", 1)
    engine = await RemoteLauncher(shell, RECIPES["built-in"], python=PYTHON, rig=host.name).start(
        wanted, file, launch_id="l"
    )
    try:
        (await shell.connection()).abort()
        for _ in range(100):
            try:
                await other.run(["kill", "-0", str(engine.pid)])
            except RigError:
                break
            await asyncio.sleep(0.1)
        else:
            pytest.fail("the engine outlived its connection")
    finally:
        await engine.stop()
        await shell.close()
        await other.close()
