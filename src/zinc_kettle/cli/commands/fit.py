"""`fit`: what fits on a rig, and how fast it may run, before anything is loaded."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from itertools import count
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.build import open_store, rig_book
from zinc_kettle.app.charting import preferences
from zinc_kettle.app.fitting import calibration, candidates, measured_before
from zinc_kettle.app.rigbook import RigBook
from zinc_kettle.cli import output
from zinc_kettle.cli.options import JsonOption, StoreOption
from zinc_kettle.config import Places, places
from zinc_kettle.core.fit.placement import STATE_MARKS, place
from zinc_kettle.core.fit.predict import Calibration
from zinc_kettle.core.fit.sizing import ALL_LAYERS, LaunchSettings
from zinc_kettle.core.model_shape import ModelShape, from_sizes
from zinc_kettle.core.rig import Rig, RigPlan, rig_of
from zinc_kettle.core.said_rig import SAY, sheet_problem
from zinc_kettle.core.storage_types import CACHE_TYPES, STORAGE_TYPES
from zinc_kettle.core.units import byte_size, digits
from zinc_kettle.errors import UsageError
from zinc_kettle.present.fit_across import HEADS, KnownRig, across, across_cells, across_record
from zinc_kettle.present.fit_rows import (
    Candidate,
    FitRow,
    detail,
    fit_record,
    fit_rows,
    remedy_lines,
    speed_text,
    verdict,
)

EVERY = "all"
"""In place of a rig's name."""
SIZES = (
    "layers",
    "heads",
    "kv-heads",
    "head-dim",
    "width",
    "ffn",
    "vocab",
    "experts",
    "experts-active",
    "window",
    "window-every",
)

MOST_DIGITS = 12
"""Of a size; no model has a larger one."""


def parse_shape(text: str, *, weight_type: str, gated: bool, tied: bool) -> ModelShape:
    """A shape from `layers=40,heads=40,…`.

    Args:
        text: Sizes, as `name=number` with commas between.
        weight_type: Storage type of the matrices.
        gated: Three feed-forward matrices and not two.
        tied: The input embedding is also the output matrix.

    Raises:
        UsageError: A size is unknown, missing, or no number.
    """
    if weight_type not in STORAGE_TYPES:
        raise UsageError(f"unknown storage type {weight_type!r}", remedy=f"one of: {', '.join(STORAGE_TYPES)}")
    given: dict[str, int] = {}
    for part in text.split(","):
        name, _, value = part.strip().partition("=")
        if name not in SIZES or not (value.strip().isdecimal() and len(value) <= MOST_DIGITS):
            raise UsageError(f"{part.strip()!r} is not a size", remedy=f"NAME=NUMBER with {', '.join(SIZES)}")
        given[name.replace("-", "_")] = int(value)
    missing = [n for n in ("layers", "heads", "ffn", "vocab") if n not in given]
    if missing:
        raise UsageError(
            f"the shape does not give {', '.join(missing)}", remedy="layers=40,heads=40,ffn=13824,vocab=32000"
        )
    try:
        return from_sizes(**given, weight_type=weight_type, gated=gated, tied=tied)  # type: ignore[arg-type]
    except ValueError as error:
        raise UsageError("the shape cannot be", why=str(error)) from error


def wish_from(
    *,
    context: int,
    slots: int,
    cache: str,
    micro_batch: int,
    unified: bool,
    copied: bool,
    device_layers: int | None,
    expert_layers_in_main: int,
) -> LaunchSettings:
    """How a model is to be run, from the command line's options.

    Args:
        context: Tokens per slot.
        slots: Requests held at once.
        cache: Precision of the KV cache.
        micro_batch: Tokens computed at once.
        unified: All slots share one KV cache.
        copied: Weights are copied and not mapped.
        device_layers: Layers on fast devices; None for as many as fit.
        expert_layers_in_main: So many of the first layers keep their experts in main memory.

    Raises:
        UsageError: No such cache precision.
    """
    if cache not in CACHE_TYPES:
        raise UsageError(f"unknown cache precision {cache!r}", remedy=f"one of: {', '.join(CACHE_TYPES)}")
    return LaunchSettings(
        context=context,
        slots=slots,
        cache=cache,
        micro_batch=micro_batch,
        unified=unified,
        load_mode="copied" if copied else "mapped",
        device_layers=device_layers,
        expert_layers_in_main=expert_layers_in_main,
    )


def show_fit(
    paths: list[Path],
    rig_name: str | None,
    store_path: Path | None,
    wish: LaunchSettings,
    *,
    shape: ModelShape | None,
    threads: int | None,
    as_json: bool,
    pace: float | None = None,
    sheets: Sequence[str] = (),
) -> None:
    """Print what fits.

    Args:
        paths: Model files or folders; empty for the model folder.
        rig_name: A rig of the rig file; None for this machine.
        store_path: Another store than the one in the data folder.
        wish: How the model is to be run.
        shape: A model that is only a shape; None for files.
        threads: For the predicted speed; None for the best.
        as_json: JSON Lines on standard output.
        pace: The decode speed that is needed, tokens per second; None for the person's own, 0 for any.
        sheets: Machines on paper, beside the rig that is named; each `64 GB, 60 GB/s`, or `heron = 64 GB, 60 GB/s`.

    Raises:
        UsageError: The rig or a model cannot be used.
    """
    where = places(store_path)
    book = rig_book(where)
    if sheets or rig_name == EVERY:
        _side_by_side(where, book, paths, rig_name, wish, shape, sheets, pace=pace, as_json=as_json)
        return
    plan = book.plan(rig_name)
    rig = book.rig(plan.name)
    if rig.memory_bytes is None or (rig.reach == "here" and rig.bandwidth is None):
        rig = asyncio.run(_gathered(book, plan.name))
    wanted = [Candidate(shape.name, shape, "shape")] if shape else candidates(where, rig, paths)
    store = open_store(where) if where.store.exists() else None
    known = rig.prior() if store is None else calibration(store, rig)
    needed = preferences(where).pace.rate if pace is None else pace or None
    before = {} if store is None else measured_before(store, rig)
    rows = fit_rows(wanted, rig, wish, threads=threads, calibration=known, pace=needed, measured=before)
    if as_json:
        for row in rows:
            output.json_line(_record(row, rig, wish))
        return
    if not rows:
        output.line(
            "The model folder is empty. Give GGUF files or folders, or make a model: zinc-kettle synth brine-60m"
        )
        return
    _tell(rows, rig, wish, known, threads)


def _side_by_side(
    where: Places,
    book: RigBook,
    paths: list[Path],
    rig_name: str | None,
    wish: LaunchSettings,
    shape: ModelShape | None,
    sheets: Sequence[str],
    *,
    pace: float | None,
    as_json: bool,
) -> None:
    """Each model on several rigs."""
    named = [] if rig_name is None else [rig_name]
    plans = [*(book.plans() if rig_name == EVERY else map(book.plan, named)), *map(_paper, sheets, count(1))]
    rigs = [rig_of(plan, {}) if plan.reach == "paper" else book.rig(plan.name) for plan in plans]
    rigs = [asyncio.run(_gathered(book, r.name)) if r.reach == "here" and r.memory_bytes is None else r for r in rigs]
    store = open_store(where) if where.store.exists() else None
    known = [
        KnownRig(r, r.prior()) if store is None else KnownRig(r, calibration(store, r), measured_before(store, r))
        for r in rigs
        if r.memory_bytes
    ]
    if not known:
        raise UsageError("no rig's memory is known", remedy="zinc-kettle probe RIG gathers it")
    here = next((k.rig for k in known if not k.rig.on_paper), known[0].rig)
    wanted = [Candidate(shape.name, shape, "shape")] if shape else candidates(where, here, paths)
    needed = preferences(where).pace.rate if pace is None else pace or None
    for candidate in wanted:
        found = across(candidate, known, wish, pace=needed)
        if as_json:
            for one in found:
                output.json_line(across_record(one, wish))
            continue
        output.line(f"{candidate.name}; speeds are predicted, with the context half full")
        output.table(list(HEADS), [across_cells(one) for one in found])
        output.line()


def _paper(said: str, number: int) -> RigPlan:
    """A machine on paper as it is typed, with a name or without."""
    name, _, sheet = said.rpartition("=")
    wrong = sheet_problem(sheet.strip()) or ("" if sheet.strip() else "a data sheet is empty")
    if wrong:
        raise UsageError("a machine on paper cannot be read", why=wrong)
    return RigPlan(name.strip() or f"paper-{number}", "paper", sheet=sheet.strip())


async def _gathered(book: RigBook, name: str) -> Rig:
    try:
        await book.gather(name)
        await book.probe_unasked(name)
        return book.rig(name)
    finally:
        await book.close()


def _record(row: FitRow, rig: Rig, wish: LaunchSettings) -> dict[str, object]:
    if row.placement is None and row.candidate.shape is not None:
        # Sizes do not need a rig: they are told also where its memory is not known.
        from zinc_kettle.core.fit.placement import Device

        anywhere = place(row.candidate.shape, wish, [Device("main memory", True, 1 << 60)])
        return fit_record(FitRow(row.candidate, anywhere, reason=row.reason), rig, wish)
    return fit_record(row, rig, wish)


def _tell(rows: list[FitRow], rig: Rig, wish: LaunchSettings, known: Calibration, threads: int | None) -> None:
    memories = ", ".join(f"{d.name} {byte_size(d.capacity_bytes)}" for d in rig.devices()) or "memory not known"
    simulated = "  SIMULATED" if rig.simulated else ""
    output.line(f"On {rig.name} ({memories}){simulated}")
    load = f"context {wish.context:,} × {wish.slots} slots, KV cache {wish.cache}, micro-batch {wish.micro_batch}"
    output.line(f"{load}; speeds are predicted, with the context half full")
    output.line()
    heads = ["model", "stored as", "bits/weight", "weights", "KV cache", "buffers", "verdict", "decode", "prefill"]
    output.table(heads, [_cells(row) for row in rows])
    for row in rows:
        if row.placement is not None and len(rows) == 1:
            _further(row, rig, wish, known, threads)
        for note in row.candidate.shape.notes if row.candidate.shape else ():
            output.line(f"▲ {row.candidate.name}: {note}")


def _cells(row: FitRow) -> list[str]:
    shape, placement = row.candidate.shape, row.placement
    if shape is None or placement is None:
        return [row.candidate.name, *["–"] * 5, verdict(row), "–", "–"]
    need = placement.sizes
    mark = STATE_MARKS[placement.state] + (" best," if row.best else "")
    return [
        row.candidate.name,
        shape.main_type,
        f"{shape.bits_per_weight:.2f}",
        byte_size(need.weights_bytes),
        byte_size(need.kv_bytes),
        byte_size(need.buffers_bytes),
        f"{mark} {verdict(row)}",
        speed_text(row.decode),
        speed_text(row.prefill),
    ]


def _further(row: FitRow, rig: Rig, wish: LaunchSettings, known: Calibration, threads: int | None) -> None:
    more = detail(row, rig, wish, calibration=known, threads=threads)
    for what, cost in remedy_lines(more):
        output.line(f"  would fit: {what} ({cost})")
    if more.best is not None:
        pace = " and keeps the pace" if more.paced else ""
        output.line(f"  best quantization that fits here{pace}: {more.best[0]}")
    elif more.slow:
        output.line("  nothing of it that fits here keeps the pace")
    if row.measured is not None:
        output.line(f"  measured here: {digits(row.measured.value)} tok/s, {row.measured.how}")


EXAMPLES = (
    "zinc-kettle fit --pace 10",
    "zinc-kettle fit '70b at 4 bits' --rig cormorant",
    "zinc-kettle fit '32b Q4_K_M' --rig all --on 'heron = 64 GB, 60 GB/s, card 24 GB 936 GB/s, price 2400'",
    "zinc-kettle fit model.gguf --rig gannet --context 8192 --slots 4",
)


def command(
    models: Annotated[
        list[Path] | None,
        typer.Argument(help="Model files or folders; or words, as in: '70b at 4 bits', '8b Q4_K_M'."),
    ] = None,
    rig: Annotated[
        str | None, typer.Option("--rig", help="A rig from the rig file, or all; this machine by default.")
    ] = None,
    shape: Annotated[
        str, typer.Option("--shape", help="layers=40,heads=40,ffn=13824,vocab=32000 …, instead of a file.")
    ] = "",
    weights: Annotated[str, typer.Option("--weights", help="Storage type of the matrices of --shape.")] = "F16",
    plain_ffn: Annotated[
        bool, typer.Option("--plain-ffn", help="The model of --shape has two feed-forward matrices, not three.")
    ] = False,
    tied: Annotated[
        bool, typer.Option("--tied", help="The model of --shape uses its input embedding as its output matrix.")
    ] = False,
    tokens: Annotated[int, typer.Option("--context", min=16, help="Tokens of context per slot.")] = 2048,
    slots: Annotated[int, typer.Option("--slots", min=1, max=4096, help="Requests held at once.")] = 1,
    cache: Annotated[str, typer.Option("--cache-precision", help="f32, f16, q8_0 or q4_0.")] = "f16",
    micro_batch: Annotated[int, typer.Option("--micro-batch", min=1, help="Tokens computed at once.")] = 512,
    unified: Annotated[bool, typer.Option("--unified", help="All slots share one KV cache.")] = False,
    copied: Annotated[
        bool, typer.Option("--copied", help="Copy the weights into memory instead of mapping the file.")
    ] = False,
    device_layers: Annotated[Optional[int], typer.Option("--device-layers", min=0)] = None,  # noqa: UP045
    experts_in_main: Annotated[bool, typer.Option("--experts-in-main", help="Keep experts in main memory.")] = False,
    expert_layers: Annotated[
        int, typer.Option("--expert-layers-in-main", min=0, help="Those of so many of the first layers only.")
    ] = 0,
    threads: Annotated[Optional[int], typer.Option("--threads", min=1, help="Threads for the predicted speed.")] = None,  # noqa: UP045
    pace: Annotated[
        Optional[float],  # noqa: UP045
        typer.Option("--pace", min=0, help="Decode speed that is needed, tokens per second; 0 for any."),
    ] = None,
    on: Annotated[
        list[str] | None,
        typer.Option("--on", help=f"A machine from its data sheet, beside the others; repeatable: {SAY}"),
    ] = None,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Show what fits on a rig and how fast it may run, before anything is loaded."""
    wish = wish_from(
        context=tokens,
        slots=slots,
        cache=cache,
        micro_batch=micro_batch,
        unified=unified,
        copied=copied,
        device_layers=device_layers,
        expert_layers_in_main=ALL_LAYERS if experts_in_main else expert_layers,
    )
    given = parse_shape(shape, weight_type=weights, gated=not plain_ffn, tied=tied) if shape else None
    sheets = on or ()
    show_fit(models or [], rig, store, wish, shape=given, threads=threads, as_json=as_json, pace=pace, sheets=sheets)
