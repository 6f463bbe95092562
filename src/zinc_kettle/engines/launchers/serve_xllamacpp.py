"""The launcher of the package xllamacpp, which brings an HTTP server of its own."""

from __future__ import annotations

import argparse
import time
from typing import Any

from launcher_common import NOT_INSTALLED, NOT_LOADED, ON_OFF, begin, end, parser, wait_for_parent

CACHE_TYPES = {"f32": "F32", "f16": "F16", "q8_0": "Q8_0", "q4_0": "Q4_0"}
LOAD_MODES = {"mapped": "MMAP", "copied": "NONE"}
SPARE_WORKERS = 8
"""For health checks, and for connections that are just being closed."""
EXPERTS = r"ffn_(up|down|gate)_exps"


def arguments() -> argparse.ArgumentParser:
    """What it takes."""
    p: argparse.ArgumentParser = parser(__doc__)
    p.add_argument("--threads", type=int)
    p.add_argument("--prefill-threads", type=int)
    p.add_argument("--batch", type=int, default=2048)
    p.add_argument("--micro-batch", type=int, default=512)
    p.add_argument("--cache-precision", choices=sorted(CACHE_TYPES), default="f16")
    p.add_argument("--prompt-cache", action="store_true")
    p.add_argument("--load-mode", choices=sorted(LOAD_MODES), default="mapped")
    p.add_argument("--device-layers", type=int, help="layers on fast devices; all by default")
    p.add_argument("--experts-in-main", action="store_true")
    p.add_argument("--expert-layers-in-main", type=int, default=0)
    p.add_argument("--flash-attention", choices=ON_OFF)
    p.add_argument("--one-cache", action="store_true", help="one KV cache for all slots")
    p.add_argument("--no-repacking", action="store_true")
    p.add_argument("--draft-model")
    p.add_argument("--draft-length", type=int)
    p.add_argument("--draft-accepted", type=int, help="percent of drafted tokens to accept whatever they are")
    return p


def main() -> None:
    """Load, listen, and wait for standard input to close."""
    voice = begin()
    given = arguments().parse_args()
    try:
        import xllamacpp
    except ImportError:
        end(NOT_INSTALLED, "error: the engine's package xllamacpp is not installed; try: make setup")
    try:
        params = translated(xllamacpp, given)
    except (AttributeError, ValueError) as error:
        end(NOT_LOADED, f"error: this version of the engine cannot do what was asked: {error}")
    voice.loading("xllamacpp", build(xllamacpp), getattr(xllamacpp, "__version__", ""))
    start = time.monotonic_ns()
    try:
        server = xllamacpp.Server(params)
    except RuntimeError as error:
        end(NOT_LOADED, str(error))
    voice.ready(server.listening_address, start)
    wait_for_parent()


def build(package: Any) -> str:
    """What the engine was compiled for."""
    return str(package.get_system_info()).strip()


def translated(x: Any, a: argparse.Namespace) -> Any:
    """Our settings as the engine's; fields whose default would spoil a measurement are set here, with the reason.

    Versions differ: a field that only some have is set where it is there, unless what was asked for needs it.
    """
    p = x.CommonParams()
    p.model.path = str(a.model)
    if hasattr(p, "hostnames"):
        p.hostnames = [a.host]
    else:
        p.hostname = a.host
    p.port = a.port
    p.n_ctx = a.context * a.slots  # the engine divides its context by the slots
    p.n_parallel = a.slots
    # A connection holds one of its workers as long as it is open, and each stream has its next one open already.
    p.n_threads_http = 2 * a.slots + SPARE_WORKERS
    p.n_batch, p.n_ubatch = a.batch, min(a.batch, a.micro_batch)
    if a.threads is not None:
        p.cpuparams.n_threads = a.threads
    if a.prefill_threads is not None or a.threads is not None:
        p.cpuparams_batch.n_threads = a.prefill_threads or a.threads
    kind = getattr(x.ggml_type, f"GGML_TYPE_{CACHE_TYPES[a.cache_precision]}")
    p.cache_type_k = p.cache_type_v = kind
    if hasattr(p, "load_mode"):
        p.load_mode = getattr(x.llama_load_mode, f"LLAMA_LOAD_MODE_{LOAD_MODES[a.load_mode]}")
    else:
        p.use_mmap = a.load_mode == "mapped"
    p.cache_prompt = a.prompt_cache
    if hasattr(p, "cache_ram_mib"):
        p.cache_ram_mib = 0  # saved prompts would grow the memory we measure
    if hasattr(p, "cache_idle_slots"):
        p.cache_idle_slots = False
    if hasattr(p, "fit_params"):
        p.fit_params = False  # it would shrink settings without a word
    _layout(x, p, a)
    _draft(x, p, a)
    p.verbosity = 1
    return p


def _layout(x: Any, p: Any, a: argparse.Namespace) -> None:
    """Where weights and cache lie, and how attention is computed."""
    if a.device_layers is not None:
        p.n_gpu_layers = a.device_layers
    if a.experts_in_main:
        p.tensor_buft_overrides = f"{EXPERTS}=CPU"
    elif a.expert_layers_in_main:
        first = "|".join(map(str, range(a.expert_layers_in_main)))
        p.tensor_buft_overrides = rf"blk\.({first})\.{EXPERTS}=CPU"
    if a.flash_attention is not None:
        word = "ENABLED" if a.flash_attention == "on" else "DISABLED"
        p.flash_attn_type = getattr(x.llama_flash_attn_type, f"LLAMA_FLASH_ATTN_TYPE_{word}")
    # By itself it decides by the slots; what is measured must not depend on that.
    p.kv_unified = a.one_cache
    if a.no_repacking:
        p.no_extra_bufts = True


def _draft(x: Any, p: Any, a: argparse.Namespace) -> None:
    """A second model that drafts."""
    if a.draft_model is None:
        return
    p.speculative.types = [x.common_speculative_type.COMMON_SPECULATIVE_TYPE_DRAFT_SIMPLE]
    p.speculative.draft.mparams.path = a.draft_model
    if a.draft_length is not None:
        p.speculative.draft.n_max = a.draft_length
    if a.draft_accepted is not None:
        p.speculative.synth_rates = [a.draft_accepted / 100.0] * (a.draft_length or p.speculative.draft.n_max)
    if a.threads is not None:
        p.speculative.draft.cpuparams.n_threads = a.threads
        p.speculative.draft.cpuparams_batch.n_threads = a.prefill_threads or a.threads


if __name__ == "__main__":
    main()
