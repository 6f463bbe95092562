"""Holds Fit against the real engine: memory over a grid, and the speed of quantizations left out of the calibration.

    python benchmarks/fit.py memory     (about ten minutes)
    python benchmarks/fit.py held-out   (about five minutes: a model that set no constant)
    python benchmarks/fit.py report     (the tables again, of what was measured last)
    python benchmarks/fit.py speed      (about ten minutes; one thread, cells interleaved in one run)
    python benchmarks/fit.py parts      (about ten minutes: where the time of a token goes, at two depths)

Writes benchmarks/out/fit-memory.json and fit-speed.json, and prints the tables of docs/fit.md.
"""

from __future__ import annotations

import asyncio
import itertools
import json
import statistics
import sys
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

from zinc_kettle.app.build import experiment, model_folder, open_store, rig_book
from zinc_kettle.config import Places, places
from zinc_kettle.core.breakdown import TimeSplit, time_split
from zinc_kettle.core.fit.predict import Calibration, MachineRates, Point, calibrate, decode_speed
from zinc_kettle.core.fit.sizing import REQUEST_BYTES, LaunchSettings, buffers_bytes, sizes
from zinc_kettle.core.fit.step_work import touched
from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.core.plan.recipe import BUILT_IN
from zinc_kettle.core.plan.study import Limits, Repeats, Study
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.formats.presets import preset_shape
from zinc_kettle.formats.recipe import shipped
from zinc_kettle.session.progress import Began, Progress
from zinc_kettle.store.reading import open_run

OUT = Path(__file__).parent / "out"
QUANTIZATIONS = ("F16", "Q8_0", "Q6_K", "Q5_K", "Q5_0", "Q4_K", "Q4_0")
DEPTHS = (100, 1000)
"""Tokens of earlier text of the study of parts."""
DEPTH = 96
"""Tokens in the cache at the middle of an answer of the speed study."""
OUTPUT = 8


def peak_bytes(shape: ModelShape, wish: LaunchSettings, *, depth: int) -> int:
    """Highest resident memory while one request reaches a depth: the mask is set aside for the whole context, and
    becomes resident only as far as cells are in use."""
    return sizes(shape, wish).loaded_bytes + buffers_bytes(shape, wish, depth=depth) + REQUEST_BYTES


def measure(study: Study, where: Places) -> StudyResults:
    """Run a study and read it back."""
    store = open_store(where)
    began: list[str] = []

    def emit(event: Any) -> None:
        if isinstance(event, Began):
            began.append(event.run_id)
        if isinstance(event, Progress):
            print(f"  {event.done} of {event.repeats}, about {event.left_s:.0f} s left", file=sys.stderr)

    asyncio.run(experiment(study, where, store, emit).run())
    return open_run(store, began[0])


def number(cell: CellResults, name: str) -> float:
    """A measured value."""
    figure = cell.value(name)
    value = getattr(figure, "value", None)
    if value is None:
        raise SystemExit(f"{cell.title}: {name} was not measured: {figure}")
    return float(value)


SETTINGS = ("quantization", "context", "slots", "cache_precision", "micro_batch")
GRID = (
    ("brine-60m", ("F16", "Q8_0", "Q4_0"), (1024, 4096), (1, 4), ("f32", "f16", "q8_0", "q4_0"), (512,), 640),
    ("brine-250m", ("Q8_0", "Q6_K", "Q4_K"), (2048,), (1, 2), ("f16", "q8_0"), (512,), 640),
)
"""Model, quantizations, contexts, slots, cache precisions, micro-batches, prompt tokens."""
HELD_OUT = (("brine-1b", ("Q8_0",), (1024, 3000), (1,), ("f16", "q4_0"), (128, 256), 300),)
"""A model and micro-batches that played no part when the constants were set."""


def memory(where: Places, grid: tuple[Any, ...], name: str) -> None:
    """A grid of memory; prompts are longer than the micro-batch, so that all working memory is touched."""
    rows = []
    for model, quantizations, contexts, slots, caches, micros, prompt in grid:
        study = Study(
            name=f"memory-{model}",
            question="Does the engine take what Fit says?",
            vary={
                "quantization": quantizations,
                "context": contexts,
                "slots": slots,
                "cache_precision": caches,
                "micro_batch": micros,
            },
            hold={
                "model": model,
                "threads": 2,
                "load_mode": "copied",
                "prompt_tokens": prompt,
                "output_tokens": OUTPUT,
            },
            repeats=Repeats(count=1, requests=1, warm_up=1),
            limits=Limits(),
            engines=(shipped()[BUILT_IN].engine,),
        )
        view = measure(study, where)
        for cell in view.cells:
            s = cell.cell.settings
            rows.append(
                {
                    "model": model,
                    **{k: s[k] for k in SETTINGS},
                    "prompt": prompt,
                    "loaded": number(cell, "memory_loaded"),
                    "peak": number(cell, "memory_peak"),
                }
            )
    OUT.mkdir(exist_ok=True)
    (OUT / f"{name}.json").write_text(json.dumps(rows, indent=1))
    _tell_memory(rows)


def _tell_memory(rows: list[dict[str, Any]]) -> None:
    for r in rows:
        shape = preset_shape(r["model"], r["quantization"])
        micro = r.get("micro_batch", 512)
        wish = LaunchSettings(r["context"], r["slots"], r["cache_precision"], micro_batch=micro, load_mode="copied")
        r["loaded_predicted"] = sizes(shape, wish).loaded_bytes
        r["peak_predicted"] = peak_bytes(shape, wish, depth=r.get("prompt", 640) + OUTPUT)
    for name in ("loaded", "peak"):
        errors = [r[f"{name}_predicted"] / r[name] - 1 for r in rows]
        print(
            f"{name}: {len(rows)} cells, error {min(errors):+.1%} to {max(errors):+.1%}, "
            f"median size {statistics.median(map(abs, errors)):.1%}"
        )
    heads = (
        "model",
        "quantization",
        "context",
        "slots",
        "cache",
        "micro-batch",
        "loaded, MB",
        "predicted",
        "error",
        "peak, MB",
        "predicted",
        "error",
    )
    print("| " + " | ".join(heads) + " |")
    print("|" + "---|" * len(heads))
    for r in rows:
        cells = [
            r["model"],
            r["quantization"],
            f"{r['context']:,}",
            r["slots"],
            r["cache_precision"],
            r.get("micro_batch", 512),
        ]
        for name in ("loaded", "peak"):
            seen, said = r[name], r[f"{name}_predicted"]
            cells += [f"{seen / 1e6:.1f}", f"{said / 1e6:.1f}", f"{said / seen - 1:+.1%}"]
        print("| " + " | ".join(map(str, cells)) + " |")


def speed(where: Places) -> None:
    """Each quantization predicted from the others of its model, at one thread, in one interleaved run."""
    book = rig_book(where)
    probe = asyncio.run(book.probe("here")).probe
    machine = probe.machine(1) if probe else None
    assert machine is not None
    rows = []
    for model in ("brine-60m", "brine-250m"):
        study = Study(
            name=f"speed-{model}",
            question="Does decode speed follow what Fit says?",
            vary={"quantization": QUANTIZATIONS},
            hold={
                "model": model,
                "threads": 1,
                "context": 512,
                "load_mode": "copied",
                "prompt_tokens": 64,
                "output_tokens": 64,
            },
            repeats=Repeats(count=5, requests=1),
            limits=Limits(quiet_s=15.0),
            engines=(shipped()[BUILT_IN].engine,),
        )
        rows += _seen(model, measure(study, where))
    OUT.mkdir(exist_ok=True)
    plain = {"bandwidth": machine.bandwidth_bytes_per_s, "flops": machine.flops, "rows": rows}
    (OUT / "fit-speed.json").write_text(json.dumps(plain, indent=1))
    _tell_speed(plain)


def _tell_speed(found: dict[str, Any]) -> None:
    machine = MachineRates(found["bandwidth"], found["flops"], 1, "from the probe")
    print(f"bandwidth {machine.bandwidth_bytes_per_s / 1e9:.3g} GB/s, {machine.flops / 1e9:.3g} GFLOP/s, one thread")
    for model in dict.fromkeys(r["model"] for r in found["rows"]):
        seen = {r["quantization"]: r["tokens_per_s"] for r in found["rows"] if r["model"] == model}
        one_out = [(q, [o for o in seen if o != q]) for q in seen]
        _tell(model, "each from all others", one_out, seen, machine)
        beyond = [(q, ["F16", "Q8_0", "Q6_K"]) for q in ("Q4_K", "Q4_0")]
        beyond += [(q, ["Q6_K", "Q5_K", "Q5_0", "Q4_K", "Q4_0"]) for q in ("F16", "Q8_0")]
        _tell(model, "beyond what was measured", beyond, seen, machine)


def _tell(
    model: str, title: str, cases: list[tuple[str, list[str]]], seen: dict[str, float], machine: MachineRates
) -> None:
    """One table: predictions of quantizations from others of the same model, and from the probe alone."""
    shapes = {q: preset_shape(model, q) for q in seen}
    lines, errors = [], []
    for q, others in cases:
        points = [Point(touched(shapes[o], depth=DEPTH), 1 / seen[o], machine) for o in others]
        said = decode_speed(shapes[q], machine, calibrate(points), depth=DEPTH).value
        alone = decode_speed(shapes[q], machine, Calibration(), depth=DEPTH).value
        errors.append(abs(said / seen[q] - 1))
        source = ", ".join(others) if len(others) < 6 else "the other six"
        lines.append(
            f"| {q} | {source} | {seen[q]:.1f} | {said:.1f} "
            f"| {said / seen[q] - 1:+.1%} | {alone:.1f} | {alone / seen[q] - 1:+.1%} |"
        )
    print(f"\n{model}, {title}: median error {statistics.median(errors):.1%}, worst {max(errors):.1%}\n")
    print("| predicted | from | measured, tok/s | predicted | error | from the probe alone | error |")
    print("|---|---|---|---|---|---|---|")
    print("\n".join(lines))


def _seen(model: str, view: StudyResults) -> list[dict[str, Any]]:
    return [
        {"model": model, "quantization": str(c.cell.settings["quantization"]), "tokens_per_s": number(c, "decode")}
        for c in view.cells
    ]


def parts(where: Places) -> None:
    """Where the time goes, each cell from all others, and what a greater depth costs: computed and measured."""
    asyncio.run(rig_book(where).probe("here"))
    study = Study(
        name="parts",
        question="Where does the time go?",
        vary={"quantization": ("F16", "Q8_0", "Q4_K"), "threads": (1, 2), "depth": DEPTHS},
        hold={"model": "brine-250m", "context": 2048, "prompt_tokens": 64, "output_tokens": 24, "prompt_cache": True},
        repeats=Repeats(count=3, requests=2, order="by-launch"),
        limits=Limits(quiet_s=10.0),
        engines=(shipped()[BUILT_IN].engine,),
    )
    view = measure(study, where)
    heads = ("quantization", "threads", "depth", "measured, ms", "computed", "error", "band", "grows by", "measured")
    print("| " + " | ".join(heads) + " |")
    print("|---|---|---|---|---|---|---|---|---|")
    for shallow, deep in zip(view.cells[::2], view.cells[1::2], strict=True):
        found = [split for cell in (shallow, deep) if isinstance(split := time_split(view, cell), TimeSplit)]
        more = [split.seconds("attention", "cache") for split in found]
        for cell, split in zip((shallow, deep), found, strict=True):
            levels, said = cell.cell.levels, split.step_s - split.rest_s
            grown = ["", ""]
            if cell is deep:
                grown = [f"+{1e3 * (more[1] - more[0]):.1f}", f"+{1e3 * (found[1].step_s - found[0].step_s):.1f}"]
            row = [
                levels["quantization"],
                levels["threads"],
                f"{levels['depth']:,}",
                f"{1e3 * split.step_s:.1f}",
                f"{1e3 * said:.1f}",
                f"{said / split.step_s - 1:+.0%}",
                f"±{split.band:.0%}",
                *grown,
            ]
            print("| " + " | ".join(map(str, row)) + " |")


def main() -> None:
    """Run what is asked for."""
    wanted = sys.argv[1] if len(sys.argv) > 1 else ""
    if wanted == "report":
        for name in ("fit-memory", "fit-held-out"):
            _tell_memory(json.loads((OUT / f"{name}.json").read_text()))
        _tell_speed(json.loads((OUT / "fit-speed.json").read_text()))
        return
    if wanted not in {"memory", "held-out", "speed", "parts"}:
        raise SystemExit(__doc__)
    with tempfile.TemporaryDirectory() as folder:
        where = replace(places(), store=Path(folder) / "fit.db")
        folder_of = model_folder(where)
        for model, q in [*itertools.product(("brine-60m", "brine-250m"), QUANTIZATIONS), ("brine-1b", "Q8_0")]:
            if folder_of.find(model, q) is None:
                folder_of.make(model, q, lambda _done, _all: None)
        if wanted in {"speed", "parts"}:
            (speed if wanted == "speed" else parts)(where)
        else:
            memory(where, GRID if wanted == "memory" else HELD_OUT, f"fit-{wanted}")


if __name__ == "__main__":
    main()
