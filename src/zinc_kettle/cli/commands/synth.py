"""`synth`: make a model of random weights."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal, Optional

import typer

from zinc_kettle.cli import output
from zinc_kettle.cli.options import StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.units import byte_size
from zinc_kettle.errors import UsageError
from zinc_kettle.formats import presets, synth
from zinc_kettle.formats.models import HEADER_BYTES, PRESET_SEED, check_disk


def make_model(
    name: str,
    quantization: str,
    folder: Path | None,
    *,
    seed: int,
    shape: tuple[int, int, int, int, int],
    experts: tuple[int, int],
    tokenizer: str,
    untamed: bool,
    store: Path | None,
) -> None:
    """Make one model file and say where it is.

    Args:
        name: A preset, or a name for the given shape.
        quantization: Storage of the matrices, such as Q8_0.
        folder: Where to; None for the model folder.
        seed: Of the weights.
        shape: Layers, width, heads, KV heads, feed-forward size; zeros for a preset.
        experts: In each layer, and how many work on one token; zeros for none.
        tokenizer: `sentencepiece` or `bpe`.
        untamed: Leave byte and end tokens possible.
        store: Another store than the one in the data folder.

    Raises:
        UsageError: An unknown preset without a full shape, or a name that cannot be a file's.
        ModelError: It does not fit the disk, or cannot be written.
    """
    if not name.replace("-", "").replace("_", "").replace(".", "").isalnum():
        raise UsageError(f"{name!r} cannot be the name of a model", remedy="letters, digits, - and _")
    name, chosen = _shape(name, shape, experts, tokenizer)
    if quantization not in synth.QUANTIZATIONS:
        raise UsageError(f"no quantization {quantization!r}", remedy="one of: " + ", ".join(synth.QUANTIZATIONS))
    chosen.check()
    if untamed:
        name += presets.UNTAMED
    target = folder or places(store).models
    if seed != PRESET_SEED and folder is None and presets.is_preset(name):
        raise UsageError(
            f"the model folder only keeps presets of seed {PRESET_SEED} only",
            why="studies that name the preset rely on its file",
            remedy="use --to FOLDER for another seed",
        )
    need = synth.tensor_bytes(chosen, quantization) + HEADER_BYTES
    output.note(
        f"{name} at {quantization}: {synth.parameters(chosen) / 1e6:,.0f} million weights, "
        f"about {byte_size(need)} of disk"
    )
    check_disk(target, need)
    path = target / synth.file_name(name, quantization)
    meter = output.Meter()

    def told(done: int, total: int) -> None:
        meter.now(f"writing {done / total:.0%}")

    size = synth.write_model(
        path, name=name, shape=chosen, quantization=quantization, seed=seed, tame=not untamed, progress=told
    )
    meter.done(f"written, {byte_size(size)}")
    output.line(str(path))


def _shape(
    name: str, given: tuple[int, int, int, int, int], experts: tuple[int, int], tokenizer: str
) -> tuple[str, presets.Shape]:
    """The model's name and shape; the name of a preset says its vocabulary."""
    if tokenizer not in {"sentencepiece", "bpe"}:
        raise UsageError(f"there is no tokenizer {tokenizer!r}", remedy="sentencepiece or bpe")
    if any(given):
        if not all(given):
            raise UsageError("a custom shape needs all five sizes", remedy="--layers --width --heads --kv-heads --ffn")
        if presets.is_preset(name):
            raise UsageError(f"{name} is a preset and has a fixed shape", remedy="choose another name")
        kind: Literal["sentencepiece", "bpe"] = "bpe" if tokenizer == "bpe" else "sentencepiece"
        return name, presets.Shape(*given, *experts, kind)
    if any(experts):
        raise UsageError("experts need a shape of their own", remedy="shoal-140m; or --layers … --experts 8 …")
    if tokenizer == "bpe" and not name.endswith(presets.BPE):
        name += presets.BPE
    if not presets.is_preset(name):
        raise UsageError(
            f"there is no preset {name!r}", remedy=f"{', '.join(presets.PRESETS)}; or give a shape with --layers …"
        )
    return name, presets.preset(name)


EXAMPLES = ("zinc-kettle synth brine-60m --quantization Q8_0",)


def command(
    preset: Annotated[str, typer.Argument(help="Such as brine-60m or shoal-140m; or a name and a shape.")],
    quantization: Annotated[str, typer.Option("--quantization", help="F16, Q8_0, Q6_K, Q5_K …")] = "F16",
    to: Annotated[Optional[Path], typer.Option("--to", help="Folder to write to; the model folder by default.")] = None,  # noqa: UP045
    seed: Annotated[int, typer.Option("--seed", min=0, help="Seed of the weights.")] = 1,
    layers: Annotated[int, typer.Option(min=0)] = 0,
    width: Annotated[int, typer.Option(min=0)] = 0,
    heads: Annotated[int, typer.Option(min=0)] = 0,
    kv_heads: Annotated[int, typer.Option(min=0)] = 0,
    ffn: Annotated[int, typer.Option(min=0, help="Of one expert, where there are several.")] = 0,
    experts: Annotated[int, typer.Option(min=0, help="Experts in each layer; none by default.")] = 0,
    active: Annotated[int, typer.Option("--experts-active", min=0, help="Experts that work on one token.")] = 0,
    tokenizer: Annotated[
        str, typer.Option("--tokenizer", help="sentencepiece, or bpe, which more engines split alike.")
    ] = "sentencepiece",
    untamed: Annotated[
        bool, typer.Option("--untamed", help="Allow byte and end tokens in the output; for testing.")
    ] = False,
    store: StoreOption = None,
) -> None:
    """Make a model of random weights: real speed, meaningless answers."""
    shape = (layers, width, heads, kv_heads, ffn)
    make_model(
        preset,
        quantization,
        to,
        seed=seed,
        shape=shape,
        experts=(experts, active),
        tokenizer=tokenizer,
        untamed=untamed,
        store=store,
    )
