"""`rehearse`: start simulated rigs as real HTTP servers, until interrupted."""

from __future__ import annotations

import asyncio
import contextlib
import signal
from typing import Annotated, Optional

import typer

from zinc_kettle.cli import output
from zinc_kettle.core.rig import RigPlan
from zinc_kettle.core.units import byte_size
from zinc_kettle.errors import UsageError
from zinc_kettle.rigs.adapters import RehearsalRig
from zinc_kettle.sim.fleet import SIM_MODELS, SIM_RIGS


def list_rigs() -> None:
    """Print the simulated rigs and models."""
    rows = [
        [
            r.name,
            r.case,
            str(r.cores),
            byte_size(r.memory_bytes),
            ", ".join(byte_size(d.memory_bytes) for d in r.devices) or "–",
            f"{r.bandwidth / 1e9:.0f} GB/s",
        ]
        for r in SIM_RIGS.values()
    ]
    output.table(["simulated rig", "what it stands for", "cores", "memory", "devices", "bandwidth"], rows)
    output.line(f"models: {', '.join(SIM_MODELS)}, at any quantization")


def rehearse(names: list[str], model: str, quantization: str) -> None:
    """Start rigs with a model loaded, print their addresses, and serve until interrupted.

    Raises:
        UsageError: No such rig.
        RigError: One did not start.
    """
    unknown = [n for n in names if n not in SIM_RIGS]
    if unknown or model not in SIM_MODELS:
        raise UsageError(
            f"there is no simulated rig {unknown[0] if unknown else model}",
            remedy="zinc-kettle rehearse --list names rigs and models",
        )
    asyncio.run(_serve(names or list(SIM_RIGS), model, quantization))


async def _serve(names: list[str], model: str, quantization: str) -> None:
    import httpx

    rigs = [RehearsalRig(RigPlan(name, "rehearsal")) for name in names]
    stop = asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        with contextlib.suppress(NotImplementedError):
            asyncio.get_running_loop().add_signal_handler(number, stop.set)
    try:
        for name, rig in zip(names, rigs, strict=True):
            address = await rig.address()
            async with httpx.AsyncClient(timeout=60, trust_env=False) as http:
                answer = await http.post(
                    f"{address}/rehearse/load", json={"model": model, "quantization": quantization, "slots": 8}
                )
            words = answer.json()
            state = words.get("state") or words.get("error", {}).get("message", "")
            output.line(
                f"SIMULATED {name}: {address}/v1/chat/completions, {address}/metrics; {model} {quantization} {state}"
            )
        output.note("Serving until interrupted with Ctrl-C.")
        await stop.wait()
    finally:
        for rig in rigs:
            await rig.close()


EXAMPLES = (
    "zinc-kettle rehearse --list",
    "zinc-kettle rehearse gannet --model kelp-4b",
)


def command(
    names: Annotated[Optional[list[str]], typer.Argument(help="Simulated rigs; all by default.")] = None,  # noqa: UP045
    model: Annotated[str, typer.Option("--model", help="Which made-up model to load.")] = "brine-1b",
    quantization: Annotated[str, typer.Option("--quantization", help="Its storage type.")] = "Q8_0",
    listing: Annotated[bool, typer.Option("--list", help="List the rigs and models, and exit.")] = False,
) -> None:
    """Start simulated rigs as HTTP servers; their figures are simulated and labelled as such."""
    if listing:
        list_rigs()
    else:
        rehearse(names or [], model, quantization)
