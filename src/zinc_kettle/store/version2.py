"""The settings of plans that were kept before engines declared theirs: frozen, as it was when they ran."""

from __future__ import annotations

from zinc_kettle.core.recipe import BUILT_IN, Engine, Setting

ENGINE_2 = Engine(
    BUILT_IN,
    (
        Setting(name="threads", kind="launch", type="number", meaning="threads for decoding", high=1024, noun="thread",
                role="threads", argument="--threads"),
        Setting(name="prefill_threads", kind="launch", type="number", meaning="threads for prefill", high=1024,
                noun="prefill thread", role="prefill-threads", argument="--prefill-threads"),
        Setting(name="context", kind="launch", type="number", meaning="tokens of context per slot", low=16,
                high=1 << 24, default=2048, role="context", argument="--context"),
        Setting(name="slots", kind="launch", type="number", meaning="requests held at once", high=4096, noun="slot",
                role="slots", argument="--slots"),
        Setting(name="batch", kind="launch", type="number", meaning="tokens handed to the engine at once",
                high=1 << 20, default=2048, role="batch", argument="--batch"),
        Setting(name="micro_batch", kind="launch", type="number", meaning="tokens computed at once", high=1 << 20,
                default=512, role="micro-batch", argument="--micro-batch"),
        Setting(name="cache_precision", kind="launch", type="text", meaning="precision of the KV cache",
                choices=("f32", "f16", "q8_0", "q4_0"), default="f16", role="cache-precision",
                argument="--cache-precision"),
        Setting(name="prompt_cache", kind="launch", type="switch", meaning="let the engine reuse prompts it has seen",
                default=False, role="prompt-cache", flag="--prompt-cache", request="cache_prompt"),
        Setting(name="load_mode", kind="launch", type="text", meaning="how the weights get into memory",
                choices=("mapped", "copied"), default="mapped", role="load-mode", argument="--load-mode"),
    ),
    fits=True,
)  # fmt: skip
