"""Figures of requests, repeats and cells, worked out by hand."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np
import pytest
from benchmarks import batching
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from tests.build import MS, S, decode_timeline, repeat, repeats_at, study, timeline, trace
from zinc_kettle.core.facts import EngineFacts, ModelFacts
from zinc_kettle.core.measures import repeat_figures
from zinc_kettle.core.measures.model import bits_per_weight, cache_size, file_size
from zinc_kettle.core.plan.traffic import Promise
from zinc_kettle.core.record.repeat import Missing, Repeat
from zinc_kettle.core.record.timeline import EngineReport, Timeline
from zinc_kettle.core.record.value import CellFigure, Value
from zinc_kettle.core.search.trial import trial_of
from zinc_kettle.core.steady import steady_throughput, steady_window
from zinc_kettle.core.summary import MEASURED, cell_value, series, summarise
from zinc_kettle.present.json import figure_json
from zinc_kettle.present.values import whole_text


def cell_values(repeats: list[Repeat]) -> dict[str, CellFigure]:
    """Every measure of a cell."""
    summary = summarise(repeats)
    return {name: summary.value(name) for name in MEASURED}


def test_decode_leaves_the_first_chunk_out() -> None:
    """Four tokens, 20 ms apart: three tokens in 60 ms are 50 tokens/s, not four in 260."""
    figures = repeat_figures(repeat(timeline()))
    assert figures["decode"] == pytest.approx(50.0)
    assert figures["tpot"] == pytest.approx(0.020)
    assert figures["ttft"] == pytest.approx(0.200)
    assert figures["duration"] == pytest.approx(0.260)


def test_a_chunk_may_hold_several_tokens() -> None:
    """Chunks of 1, 3 and 2 tokens: five tokens after the first chunk."""
    t = timeline([100, 150, 200], tokens=[1, 3, 2])
    assert t.counted_by == "chunk-counts"
    assert repeat_figures(repeat(t))["decode"] == pytest.approx(5 / 0.1)


def test_first_chunk_with_several_tokens_is_taken_off_whole() -> None:
    """Of 2 + 1 + 1 tokens only the last two were produced after the first chunk."""
    t = timeline([100, 150, 200], tokens=[2, 1, 1])
    assert repeat_figures(repeat(t))["decode"] == pytest.approx(2 / 0.1)


def test_usage_counts_where_chunks_do_not() -> None:
    """Three chunks, nine tokens by usage: three in each, so that six were written in 100 ms."""
    t = timeline([100, 150, 200], tokens=[0, 0, 0], output_tokens=9)
    assert t.counted_by == "usage"
    assert repeat_figures(repeat(t))["decode"] == pytest.approx(60.0)
    bare = timeline([100, 150, 200], tokens=[0, 0, 0])
    assert bare.counted_by == "chunks" and bare.total_tokens == 3


@pytest.mark.parametrize("each", [1, 2, 3, 5, 8])
@pytest.mark.parametrize("counted", ["each chunk", "the last chunk", "usage", "usage and an end token"])
def test_decode_of_chunks_of_any_size(each: int, counted: str) -> None:
    """A token every 10 ms, sent when so many are there: always 100 a second, whoever counts them and where."""
    n = 12
    stamps = [200.0 + 10.0 * each * i for i in range(n)]
    total = n * each
    tokens = {"each chunk": [each] * n, "the last chunk": [0] * (n - 1) + [total]}.get(counted, [0] * n)
    more = 1 if each == 1 and "end" in counted else 0
    t = timeline(stamps, tokens=tokens, output_tokens=None if any(tokens) else total + more)
    assert repeat_figures(repeat(t))["decode"] == pytest.approx(100.0)
    assert t.total_tokens == total + more
    assert t.several_a_chunk == (each > 1 and counted != "each chunk")
    gaps = t.token_gaps_ns
    if t.several_a_chunk:
        assert gaps is None
    else:
        assert gaps is not None and int(gaps.sum()) == t.decode_ns and len(gaps) == total - each


def test_a_chunk_without_a_token_hides_no_gap() -> None:
    """What its text waited for belongs to the next token: 30 + 20 ms before the one after it."""
    t = timeline([200.0, 230.0, 250.0, 290.0], tokens=[1, 0, 1, 2])
    assert t.token_gaps_ns is not None and t.token_gaps_ns.tolist() == [50 * MS, 40 * MS, 0]


def test_no_speed_in_characters_where_there_are_none() -> None:
    """An answer whose output is all of another kind is not zero characters fast."""
    assert isinstance(repeat_figures(repeat(timeline(characters=0)))["chars_rate"], Missing)


def test_rates_are_totals_over_totals() -> None:
    """One fast and one slow request: not the mean of the rates."""
    fast, slow = decode_timeline(100.0), decode_timeline(10.0)
    assert repeat_figures(repeat(fast, slow))["decode"] == pytest.approx(20 / 1.1)


def test_engines_own_decode_is_recomputed() -> None:
    """21 tokens in 1 s of the engine's clock are 20 tokens/s: its clock starts with the first."""
    t = timeline(engine=EngineReport(0, 100, 190.0, 21, 1000.0))
    assert repeat_figures(repeat(t))["decode_engine"] == pytest.approx(20.0)


def test_prefill_has_its_own_name_for_each_view() -> None:
    """The client's uses TTFT, the engine's its own time; the offset is their difference."""
    t = timeline(engine=EngineReport(20, 80, 160.0, 4, 60.0))
    figures = repeat_figures(repeat(t))
    assert figures["prefill_client"] == pytest.approx(80 / 0.2)
    assert figures["prefill_engine"] == pytest.approx(80 / 0.16)
    assert figures["ttft_offset"] == pytest.approx(0.040)
    assert isinstance(cell_value([repeat(t)], "prefill_slope"), Missing)


def test_client_prefill_is_refused_where_it_would_mislead() -> None:
    """With queueing, with a tiny prompt, and without a count there is a reason instead of a number."""
    report = EngineReport(0, 12, 10.0, 4, 60.0)
    for r in (
        repeat(timeline(), timeline(), concurrency=2),
        repeat(timeline(engine=report)),
        repeat(timeline(prompt_tokens=None)),
    ):
        assert isinstance(repeat_figures(r)["prefill_client"], Missing)


def test_cached_tokens_are_not_prefilled() -> None:
    """Without an engine report, usage's cached tokens are taken off."""
    assert timeline(cached_tokens=60).uncached_tokens == 40


@pytest.mark.parametrize("change", [{"complete": False}, {"error": "HTTP 500"}, {"cold": True}])
def test_what_does_not_count(change: dict[str, Any]) -> None:
    """Incomplete, failed and cold requests are kept and never counted."""
    r = repeat(timeline(**change), timeline())
    assert len(r.measured) == 1
    assert repeat_figures(repeat(timeline(**change))) == {}


def test_a_single_chunk_has_no_decode_speed() -> None:
    """t_last = t_first: a reason, no division."""
    assert isinstance(repeat_figures(repeat(timeline([100.0])))["decode"], Missing)


def test_steady_window_by_hand() -> None:
    """Two streams: from one mean latency, 99 ms, after the second send to the first end that is not replaced."""
    pairs = [(0, 100), (10, 110), (100, 200), (110, 210), (200, 300), (210, 310), (300, 400), (310, 410)]
    requests = [
        timeline([s + 50.0, e - 1.0], sent_ms=float(s), end_ns=e * MS, stream=i % 2) for i, (s, e) in enumerate(pairs)
    ]
    r = repeat(*requests, concurrency=2)
    assert steady_window(r) == (109 * MS, 400 * MS)
    # Chunks at 150 … 350 and 160 … 360, and at 199 … 399 and 209 … 309 are inside: 6 + 5 tokens in 291 ms.
    assert steady_throughput(r) == pytest.approx(11 / 0.291)


def test_throughput_is_that_of_the_steady_state() -> None:
    """Of a simulated engine that batches sixteen streams, whose long run is known; the first latency would bias it."""
    ours, early = batching.biases(batching.LOADS[5], 20)
    assert abs(ours) < 0.05 and early < -0.06


def test_gaps_between_tokens_count_each_token() -> None:
    """Chunks of one, two and three tokens: those of a chunk come together, the first of them after the chunk's gap."""
    t = timeline([200.0, 230.0, 290.0], tokens=[1, 2, 3])
    assert (t.token_gaps_ns is not None) and t.token_gaps_ns.tolist() == [30 * MS, 0, 60 * MS, 0, 0]
    found = cell_value([repeat(t)], "token_gap_p50"), cell_value([repeat(t)], "gap_p50")
    assert [v.value for v in found if isinstance(v, Value)] == [0.0, pytest.approx(0.045)]
    blind = timeline([200.0, 230.0, 290.0], tokens=[0, 0, 0], output_tokens=6)
    missing = cell_value([repeat(blind)], "token_gap_p50")
    assert blind.token_gaps_ns is None and isinstance(missing, Missing) and "how many tokens" in missing.reason


def test_a_finished_answer_is_as_long_as_asked_for() -> None:
    """Four of ten tokens came, 20 ms apart after 200 ms: ten take 380 ms."""
    assert repeat_figures(repeat(timeline(asked_tokens=10)))["answer_time"] == pytest.approx(0.380)


def loaded(**changes: Any) -> Repeat:
    """Two streams, four requests each of 100 ms and two tokens, 100 prompt tokens; the second stream 10 ms later."""
    at = [(i // 2 * 100.0 + 10.0 * (i % 2), i % 2) for i in range(8)]
    return repeat(*(timeline([s + 50, s + 99], sent_ms=s, stream=n) for s, n in at), concurrency=2, **changes)


def test_prompts_count_with_throughput_when_they_are_answered() -> None:
    """From 109 to 400 ms: outputs at 150, 160, 250, 260, 350 and 360 begin six prompts."""
    figures = repeat_figures(loaded())
    assert figures["throughput_all"] == pytest.approx((11 + 6 * 100) / 0.291)
    assert figures["batch_cpu"] == pytest.approx(0.409)  # one core busy throughout


def test_goodput_counts_requests_that_keep_the_promise() -> None:
    """Every first output takes 50 ms and every token 49 ms; a promise of less is never kept."""
    limits = {"promise_ttft_s": 0.060, "promise_tpot_s": 0.050}
    kept = repeat_figures(loaded(extras=limits))
    assert kept["promise_kept"] == 1.0 and kept["goodput"] == pytest.approx(6 / 0.291)
    strict = repeat_figures(loaded(extras={**limits, "promise_ttft_s": 0.040}))
    assert strict["promise_kept"] == 0.0 == strict["goodput"]
    failed = repeat(timeline(), timeline([], error="HTTP 503", complete=False), extras={"promise_ttft_s": 1.0})
    assert repeat_figures(failed)["promise_kept"] == 0.5
    assert isinstance(repeat_figures(loaded())["goodput"], Missing)


def test_sizes_of_the_model_follow_from_its_file() -> None:
    """4.5 bits a weight; half of the cache's layers look back 100 tokens, of a context of 256; a cache of 8.5 bits."""
    model: ModelFacts = {
        "weights": 1_000,
        "weights_bytes": 562,
        "kv_bytes_per_token_f16": 1_000.0,
        "kv_windowed_per_token_f16": 500.0,
        "window": 100,
    }
    facts: EngineFacts = {"model": model, "file": {"size_bytes": 700}}
    cell = study(hold={"model": "m", "context": 256, "cache_precision": "q8_0"}).cells[0]
    assert file_size(facts, cell) == 700.0
    assert bits_per_weight(facts, cell) == pytest.approx(4.496)
    assert cache_size(facts, cell) == pytest.approx((500 * 256 + 500 * 100) * 8.5 / 16)
    assert isinstance(cache_size({}, cell), Missing)


def test_throughput_wants_completions() -> None:
    """Fewer: no steady window, said with the count."""
    figure = steady_throughput(repeat(timeline()))
    assert isinstance(figure, Missing) and "2 needed" in figure.reason


def test_memory_is_less_the_launcher() -> None:
    """Peak of the samples less the launcher's own 20 MB; anonymous and file-backed apart."""
    figures = repeat_figures(repeat(timeline()))
    assert figures["memory_peak"] == 100e6
    assert figures["memory_anonymous"] == 30e6
    higher = dataclasses.replace(trace(), highest_bytes=150_000_000)
    assert repeat_figures(repeat(timeline(), trace=higher))["memory_peak"] == 130e6
    loaded = cell_value(
        [repeat(timeline(), block=0), repeat(timeline(), block=0), repeat(timeline(), block=1)], "memory_loaded"
    )
    assert isinstance(loaded, Value) and (loaded.value, loaded.n, loaded.of) == (90e6, 2, "launches")


def test_memory_of_each_phase() -> None:
    """Prefill until 1.2 s, decode until 3.2 s, samples every half second: three of the first, five of the second."""
    slow = timeline([1_200.0, 3_200.0])
    rising = trace(resident=(100, 110, 120, 130, 140, 150, 160, 170), cpu_s=(0.0,) * 8)
    figures = repeat_figures(repeat(slow, trace=rising))
    assert figures["memory_prefill"] == 100e6 and figures["memory_decode"] == 140e6
    assert isinstance(repeat_figures(repeat(timeline(), trace=rising))["memory_prefill"], Missing)
    both = repeat_figures(repeat(slow, slow, concurrency=2, trace=rising))["memory_decode"]
    assert isinstance(both, Missing) and "overlap" in both.reason


def test_an_endpoint_has_no_process_figures() -> None:
    """Null with a reason, never a zero."""
    figures = repeat_figures(repeat(timeline(), launch=None, trace=None))
    assert isinstance(figures["memory_peak"], Missing) and isinstance(figures["cpu"], Missing)


def test_cost_of_watching() -> None:
    """6 ms of driver and 4 ms of sampler in one second on two cores are half a percent of the machine."""
    figures = repeat_figures(repeat(timeline()))
    assert figures["observer_share"] == pytest.approx(0.005)
    assert figures["cpu"] == pytest.approx(1.0)


def test_cell_is_the_median_over_repeats() -> None:
    """Three repeats: median and range; the load time counts launches, not repeats."""
    values = cell_values(repeats_at(10.0, 30.0, 20.0))
    decode = values["decode"]
    assert isinstance(decode, Value)
    assert (decode.value, decode.low, decode.high) == pytest.approx((20.0, 10.0, 30.0))
    assert (decode.bound, decode.n) == ("range", 3)
    shared = [dataclasses.replace(r, launch=repeats_at(1.0)[0].launch) for r in repeats_at(10.0, 20.0)]
    load = cell_values(shared)["load_time"]
    assert isinstance(load, Value) and load.n == 1 and load.value == 0.5


def test_every_measure_answers_for_no_repeats() -> None:
    """n = 0: each measure is missing with a reason, none raises."""
    values = cell_values([])
    assert set(values) == set(MEASURED)
    assert all(isinstance(v, Missing) and v.reason for v in values.values())


def test_one_measure_is_the_same_alone() -> None:
    """The screen's single measure equals the whole table's."""
    repeats = repeats_at(10.0, 11.0, 12.0)
    table = cell_values(repeats)
    assert all(cell_value(repeats, name) == table[name] for name in MEASURED)
    assert len(series(repeats, "gap_p95")) == 3 and series(repeats, "load_time") == [0.5] * 3


@given(st.lists(st.integers(1, 50), min_size=2, max_size=30), st.integers(1, 10**9))
def test_decode_times_span_is_tokens(gaps_ms: list[int], start: int) -> None:
    """Conservation: speed × span gives back the tokens, wherever the clock starts."""
    stamps = np.cumsum([0, *gaps_ms]).astype(np.int64) * MS + start
    t = timeline([1.0] * len(stamps), sent_ns=start - 5, chunk_ns=stamps, end_ns=int(stamps[-1]) + 1)
    figures = repeat_figures(repeat(t))
    assert isinstance(figures["decode"], float)
    assert figures["decode"] * t.decode_ns / S == pytest.approx(len(gaps_ms))


def test_arrays_of_unlike_length_are_refused() -> None:
    """A timeline cannot be built with a stamp too few."""
    with pytest.raises(ValueError, match="differ"):
        timeline(chunk_tokens=np.array([1], dtype=np.int32))


def test_turnaround_is_between_the_requests_of_one_stream() -> None:
    """From the end of an answer to the next request of the same stream; not where a pause is meant."""

    def request(stream: int, sent_ms: float, end_ms: float, **more: Any) -> Any:
        return timeline([sent_ms + 10], sent_ms=sent_ms, end_ns=int(end_ms * MS), stream=stream, **more)

    requests = [request(0, 0, 100), request(1, 5, 90), request(0, 101, 200), request(1, 93, 190), request(0, 205, 300)]
    figures = repeat_figures(repeat(*requests, concurrency=2))
    assert figures["turnaround"] == pytest.approx(0.003), "1, 3 and 5 ms"
    again = [request(0, 0, 100, error="x", complete=False), request(0, 500, 600, attempt=1), request(0, 602, 700)]
    assert repeat_figures(repeat(*again))["turnaround"] == pytest.approx(0.002), "a retry waits on purpose"
    for extras in ({"think_s": 2.0}, {"open_loop": 1.0}):
        assert isinstance(repeat_figures(repeat(*requests, extras=extras))["turnaround"], Missing)
    assert isinstance(repeat_figures(repeat(timeline()))["turnaround"], Missing)


def test_drafts_by_totals() -> None:
    """Of all requests together; nothing where no model drafts."""
    told = [EngineReport(0, 100, 50.0, 4, 60.0, *counts) for counts in ((30, 20), (10, 0))]
    figures = repeat_figures(repeat(*(timeline(engine=e) for e in told)))
    assert figures["draft_accepted"] == pytest.approx(0.5) and figures["drafted"] == pytest.approx(40 / 8)
    plain = repeat_figures(repeat(timeline(engine=EngineReport(0, 100, 50.0, 4, 60.0))))
    assert isinstance(plain["draft_accepted"], Missing) and isinstance(plain["drafted"], Missing)


def test_density_is_characters_of_the_prompt_over_its_tokens() -> None:
    """As far as the prompts' characters were kept."""
    assert repeat_figures(repeat(timeline(), extras={"prompt_characters": 450.0}))["prompt_density"] == 4.5
    assert isinstance(repeat_figures(repeat(timeline()))["prompt_density"], Missing)


def test_a_last_token_without_text_is_no_missing_token() -> None:
    """Chunks that count themselves lack it, usage has it: the answer is whole, and the speed is of what came."""
    chunks = timeline([100, 150, 200], tokens=[1, 1, 1], asked_tokens=4, output_tokens=4, finish="length")
    assert not chunks.ended_early
    usage = timeline([100, 150, 200], tokens=[0, 0, 0], asked_tokens=4, output_tokens=4, finish="length")
    assert usage.counted_by == "usage" and usage.decode_tokens == 2
    assert repeat_figures(repeat(usage))["decode"] == pytest.approx(2 / 0.1) and not usage.ended_early
    assert timeline([100, 150], tokens=[1, 1], asked_tokens=4, output_tokens=2, finish="length").ended_early


def test_a_request_answered_before_it_was_sent_has_no_prefill_speed() -> None:
    """A negative speed would be shown as one; the clocks are wrong, and that is said."""
    found = repeat_figures(repeat(timeline([-5.0, 20.0, 40.0])))["prefill_client"]
    assert isinstance(found, Missing) and "clocks" in found.reason


def test_a_loss_with_depth_claims_no_more_than_its_repeats() -> None:
    """One repeat of three depths has a loss and no interval; six have one over their six losses."""

    def one(slope: float, block: int = 0) -> Repeat:
        requests = []
        for tokens in (100, 1_000, 2_000):
            gap = 20.0 * (1 + slope * tokens / 1_000)
            requests.append(timeline([100 + i * gap for i in range(11)], prompt_tokens=tokens))
        return repeat(*requests, block=block)

    alone = cell_value([one(0.1)], "depth_loss")
    assert isinstance(alone, Value) and (alone.bound, alone.n) == ("range", 1) and alone.low == alone.high
    slopes = (0.1, 0.11, 0.09, 0.1, 0.12, 0.1)
    six = cell_value([one(s, i) for i, s in enumerate(slopes)], "depth_loss")
    assert isinstance(six, Value) and (six.bound, six.n) == ("interval95", 6) and six.low < six.value < six.high


def asked(took_s: float, name: str, *, fails: bool = False, attempt: int = 0) -> Timeline:
    """A request that ends after so many seconds: with an answer, or with an error."""
    if fails:
        return timeline((), end_ns=int(took_s * S), error="no answer", request_id=name, attempt=attempt)
    return timeline((took_s * 500, took_s * 1e3), end_ns=int(took_s * S), request_id=name, attempt=attempt)


def test_what_failed_counts_as_later_than_all_others() -> None:
    """Ninety requests take 1.01 to 1.9 s, ten end in an error at 60 s: the 90th percentile lies between the last answer
    and the first failure, the 95th among the failures, and is said to be more than it shows; a failure that a further
    attempt made good counts for nothing."""
    fine = [asked(1 + i / 100, f"r{i}") for i in range(1, 91)]
    lost = [asked(60.0, f"x{i}", fails=True) for i in range(10)]
    p50, p90, p95 = (cell_value([repeat(*fine, *lost, concurrency=8)], f"latency_p{p}") for p in (50, 90, 95))
    assert isinstance(p50, Value) and p50.value == pytest.approx(1.505) and not p50.beyond
    assert isinstance(p90, Value) and p90.beyond and 1.9 < p90.value <= 60
    assert isinstance(p95, Value) and p95.beyond and p95.value == pytest.approx(60.0)
    assert whole_text(p95).startswith("> 60") and figure_json(p95)["beyond"]
    refused = [asked(0.01, f"x{i}", fails=True) for i in range(10)]
    at_once = cell_value([repeat(*fine, *refused, concurrency=8)], "latency_p95")
    assert isinstance(at_once, Value) and at_once.beyond and at_once.value == pytest.approx(1.9)
    again = [asked(1.0, f"x{i}", attempt=1) for i in range(10)]
    made_good = cell_value([repeat(*fine, *lost, *again, concurrency=8)], "latency_p95")
    assert isinstance(made_good, Value) and not made_good.beyond and made_good.value < 1.9


def test_a_share_that_failed_has_the_exact_interval() -> None:
    """None of six is no proof that none fails: up to 46%, by scipy's own test."""
    for lost in (0, 2, 6):
        requests = [asked(1.0, f"r{i}", fails=i < lost) for i in range(6)]
        found = cell_value([repeat(*requests)], "failed_share")
        known = stats.binomtest(lost, 6).proportion_ci(0.95, method="exact")
        assert isinstance(found, Value)
        assert (found.low, found.value, found.high) == pytest.approx((known.low, lost / 6, known.high))


def test_an_answer_in_one_piece_keeps_no_promise_of_a_pace() -> None:
    """Forty tokens in a single chunk: nobody knows the pace, so that the promise is neither kept nor broken; one token
    has no pace to keep."""
    whole = timeline((200.0,), tokens=(40,))
    for name in ("promise_kept", "goodput"):
        assert isinstance(repeat_figures(repeat(whole, extras={"promise_tpot_s": 0.1}))[name], Missing)
    assert trial_of(1.0, [[repeat(whole)]], Promise(tpot_s=0.1)) is None
    assert repeat_figures(repeat(whole, extras={"promise_ttft_s": 1.0}))["promise_kept"] == 1.0
    assert repeat_figures(repeat(timeline((200.0,)), extras={"promise_tpot_s": 0.1}))["promise_kept"] == 1.0
