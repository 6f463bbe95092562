"""Every measure by name: its unit, its plain name, and which way is better. One table, read by all rooms."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Better = Literal["more", "less", "neither"]


@dataclass(frozen=True, slots=True)
class Measure:
    """A measure as tables and screens name it."""

    name: str
    title: str
    unit: str
    better: Better
    meaning: str


_ALL = (
    Measure("load_time", "load time", "s", "less", "from handing the engine its settings until it listens"),
    Measure("ttft", "TTFT", "s", "less", "from sending a request to its first output"),
    Measure("ttft_offset", "TTFT beyond prefill", "s", "less", "TTFT less the engine's own prefill time"),
    Measure("prefill_client", "prefill, client", "tokens/s", "more", "uncached prompt tokens over TTFT"),
    Measure("prefill_engine", "prefill, engine", "tokens/s", "more", "the engine's own report of its prefill"),
    Measure("prefill_slope", "prefill, slope", "tokens/s", "more", "from TTFT over three or more prompt lengths"),
    Measure("decode", "decode", "tokens/s", "more", "tokens of one stream after its first, over the time they took"),
    Measure("decode_engine", "decode, engine", "tokens/s", "more", "the same by the engine's own clock"),
    Measure("tpot", "TPOT", "s", "less", "time per output token, the inverse of decode"),
    Measure("gap_p50", "chunk gap p50", "s", "less", "half of the gaps between chunks are shorter"),
    Measure("gap_p95", "chunk gap p95", "s", "less", "one gap in twenty is longer"),
    Measure("gap_p99", "chunk gap p99", "s", "less", "one gap in a hundred is longer"),
    Measure("throughput", "throughput", "tokens/s", "more", "output tokens of all streams while all are busy"),
    Measure("ttft_p95", "TTFT p95", "s", "less", "one request in twenty waits longer for its first output"),
    Measure("ttft_p99", "TTFT p99", "s", "less", "one request in a hundred waits longer for its first output"),
    Measure("duration", "duration", "s", "less", "from sending a request to its last output"),
    Measure("latency", "latency", "s", "less", "from when a request was due, or sent, to its last output"),
    Measure("latency_p95", "latency p95", "s", "less", "one request in twenty takes longer"),
    Measure("latency_p99", "latency p99", "s", "less", "one request in a hundred takes longer"),
    Measure("send_delay", "send delay", "s", "less", "from when a request was due until it was sent"),
    Measure("send_delay_p99", "send delay p99", "s", "less", "one request in a hundred was sent later"),
    Measure("batch_wall", "batch time", "s", "less", "from the first request to the last output of all"),
    Measure("failed_share", "failed", "share", "less", "share of the requests that failed"),
    Measure("depth_loss", "loss with depth", "share", "less", "decode speed lost per 1,000 tokens of context"),
    Measure("prompt_tokens", "prompt", "tokens", "neither", "prompt tokens by the engine's count"),
    Measure("output_tokens", "output", "tokens", "neither", "output tokens"),
    Measure("chars_rate", "characters", "chars/s", "more", "decode in characters: tokens of models differ in size"),
    Measure("memory_loaded", "memory, loaded", "bytes", "less", "resident after the load, launcher subtracted"),
    Measure("memory_peak", "memory, peak", "bytes", "less", "highest resident, launcher subtracted"),
    Measure("memory_anonymous", "memory, own", "bytes", "less", "highest anonymous part of the resident memory"),
    Measure("memory_file", "memory, file", "bytes", "less", "highest file-backed part; shared with the file cache"),
    Measure("memory_device", "memory, device", "bytes", "less", "highest memory in use on fast devices"),
    Measure("power", "power", "W", "less", "mean power of the rig while requests were answered"),
    Measure("energy_token", "energy", "J/token", "less", "energy of the whole episode over its output tokens"),
    Measure("energy_token_net", "energy, net", "J/token", "less", "the same, less what the idle rig would have used"),
    Measure("energy_prefill", "energy, prefill", "J", "less", "energy from sending a request to its first output"),
    Measure("energy_decode", "energy, decode", "J/token", "less", "energy from first output to last, over its tokens"),
    Measure("round_trip", "round trip", "s", "less", "a tiny request to the engine and back; part of TTFT"),
    Measure("limit_share", "share of the limit", "share", "more", "decode over what memory bandwidth allows"),
    Measure("cpu", "engine CPU", "cores", "neither", "processor time of the engine over wall time"),
    Measure("spread", "spread", "share", "less", "1.4826 times the MAD of decode over its median"),
    Measure("queue_p99", "driver queue p99", "s", "less", "what chunks waited for our driver; not in any figure"),
    Measure("observer_share", "observer", "share", "less", "driver and sampler, as a share of the machine"),
)
MEASURES: dict[str, Measure] = {measure.name: measure for measure in _ALL}
MAP_MEASURES = (
    "decode",
    "prefill_client",
    "ttft",
    "memory_peak",
    "load_time",
    "duration",
    "gap_p95",
    "throughput",
    "ttft_p95",
    "latency_p95",
    "batch_wall",
    "energy_token",
    "limit_share",
)
"""What the map can show, in the order its key walks through them."""
